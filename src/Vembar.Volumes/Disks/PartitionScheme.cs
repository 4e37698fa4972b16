namespace Vembar.Volumes.Disks;

/// <summary>How a disk is divided.</summary>
public enum PartitionScheme
{
    /// <summary>Not at all: the file or device is one volume.</summary>
    None,
    /// <summary>By an MBR, with logical partitions in an extended one.</summary>
    Mbr,
    /// <summary>By a GPT.</summary>
    Gpt,
}
