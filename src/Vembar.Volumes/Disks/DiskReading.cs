namespace Vembar.Volumes.Disks;

/// <summary>How a disk is opened.</summary>
/// <param name="AcceptDamaged">Whether an image that is cut short or was not closed properly is read as far as it is there; reading bytes
/// that are missing from it is an error.</param>
/// <param name="ChainFolders">Folders besides that of the image itself in which other files of it may be: backing files, data files,
/// extents, parents. Null where the user cannot name any.</param>
public sealed record DiskReading(bool AcceptDamaged = false, IReadOnlyList<string>? ChainFolders = null)
{
    /// <summary>Whole images, with all files of one beside it.</summary>
    public static DiskReading Usual { get; } = new();
}
