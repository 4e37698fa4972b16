namespace Vembar.Volumes.Disks;

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
