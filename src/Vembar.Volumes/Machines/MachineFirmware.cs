namespace Vembar.Volumes.Machines;

/// <summary>What a virtual machine starts by.</summary>
public enum MachineFirmware
{
    /// <summary>UEFI.</summary>
    Uefi,

    /// <summary>UEFI that starts signed programs alone.</summary>
    SecureBoot,

    /// <summary>A BIOS.</summary>
    Bios,
}
