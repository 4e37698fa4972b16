namespace Vembar.Volumes.Disks;

/// <summary>A volume of a disk: a partition, or all of a disk that is not divided.</summary>
/// <param name="Number">The partition's number; 1 where there is no table.</param>
/// <param name="Start">Its first byte on the disk.</param>
/// <param name="Length">Its length in bytes.</param>
/// <param name="Partition">Its entry in the table; null where there is none.</param>
/// <param name="FileSystem">What it is formatted with.</param>
public sealed record DiskVolume(int Number, long Start, long Length, Partition? Partition, FileSystem FileSystem);
