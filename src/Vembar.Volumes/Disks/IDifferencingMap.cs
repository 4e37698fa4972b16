namespace Vembar.Volumes.Disks;

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
