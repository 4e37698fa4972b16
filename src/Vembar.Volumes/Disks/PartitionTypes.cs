namespace Vembar.Volumes.Disks;

/// <summary>The types of partitions that matter here (UEFI specification 2.10, table 5.7; Microsoft's
/// "PARTITION_INFORMATION_GPT").</summary>
public static class PartitionTypes
{
    /// <summary>EFI system.</summary>
    public static readonly Guid EfiSystem = new("C12A7328-F81F-11D2-BA4B-00A0C93EC93B");
    /// <summary>Microsoft reserved.</summary>
    public static readonly Guid Reserved = new("E3C9E316-0B5C-4DB8-817D-F92DF00215AE");
    /// <summary>Basic data.</summary>
    public static readonly Guid BasicData = new("EBD0A0A2-B9E5-4433-87C0-68B6B72699C7");
    /// <summary>Windows recovery.</summary>
    public static readonly Guid Recovery = new("DE94BBA4-06D1-4D40-A16A-BFD50179D6AC");
}
