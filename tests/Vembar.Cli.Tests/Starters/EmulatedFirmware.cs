namespace Vembar.Cli.Tests.Starters;

/// <summary>What an emulated machine starts by.</summary>
public enum EmulatedFirmware
{
    /// <summary>A BIOS.</summary>
    Bios,

    /// <summary>UEFI with secure boot.</summary>
    SecureBoot,

    /// <summary>UEFI without secure boot, which fetches by HTTP.</summary>
    HttpBoot,
}
