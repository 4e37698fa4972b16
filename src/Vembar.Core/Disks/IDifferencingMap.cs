namespace Vembar.Core.Disks;

/// <summary>Where a piece of a differencing disk is.</summary>
internal enum DiskPieceKind
{
    /// <summary>In its own file.</summary>
    Own,
    /// <summary>Nowhere: it reads as zeros.</summary>
    Zero,
    /// <summary>In its parent, at the same place of the disk.</summary>
    OfParent,
}

/// <summary>A piece of a differencing disk.</summary>
/// <param name="Kind">Where it is.</param>
/// <param name="Offset">Its place in the disk's own file.</param>
internal readonly record struct DiskPiece(DiskPieceKind Kind, long Offset);

/// <summary>What a differencing disk's file says of it. Any number of threads may ask at once.</summary>
internal interface IDifferencingMap
{
    /// <summary>The disk's length in bytes.</summary>
    long Length { get; }

    /// <summary>What tells its parent from other disks.</summary>
    Guid ParentId { get; }

    /// <summary>Where its parent may be, as its file says: paths of Windows, the best first.</summary>
    IReadOnlyList<string> ParentPaths { get; }

    /// <summary>Where the bytes from a place on are, and how many of them.</summary>
    (DiskPiece Piece, long Length) Find(long offset);
}
