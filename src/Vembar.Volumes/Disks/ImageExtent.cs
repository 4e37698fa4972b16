namespace Vembar.Volumes.Disks;

/// <summary>A part of a VMDK in a file of its own.</summary>
/// <param name="Sectors">Its length on the disk, in sectors of 512 bytes.</param>
/// <param name="IsSparse">Whether its file has tables of grains; else the bytes are in it as they are.</param>
/// <param name="File">Its file; null for zeros.</param>
/// <param name="Offset">Where a flat one begins in its file, in sectors.</param>
internal sealed record ImageExtent(long Sectors, bool IsSparse, FileDevice? File, long Offset);
