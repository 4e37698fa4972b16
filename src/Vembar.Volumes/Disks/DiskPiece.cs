namespace Vembar.Volumes.Disks;

/// <summary>A piece of a differencing disk.</summary>
/// <param name="Kind">Where it is.</param>
/// <param name="Offset">Its place in the disk's own file.</param>
internal readonly record struct DiskPiece(DiskPieceKind Kind, long Offset);
