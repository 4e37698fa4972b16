namespace Vembar.Store.Format;

/// <summary>A stretch of the file with its checksum.</summary>
internal readonly record struct Extent(long Offset, long Length, ulong Checksum);
