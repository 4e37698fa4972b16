namespace Vembar.Volumes.Disks;

/// <summary>How a disk's bytes are kept in a file.</summary>
public enum DiskFormat
{
    /// <summary>As they are: a raw image, or a block device.</summary>
    Raw,
    /// <summary>VHD.</summary>
    Vhd,
    /// <summary>VHDX.</summary>
    Vhdx,
    /// <summary>QCOW2.</summary>
    Qcow2,
    /// <summary>VMDK.</summary>
    Vmdk,
    /// <summary>VDI.</summary>
    Vdi,
}
