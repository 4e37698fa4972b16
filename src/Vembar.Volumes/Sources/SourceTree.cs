using Vembar.Images.Records;

namespace Vembar.Volumes.Sources;

/// <summary>What a walk found.</summary>
/// <param name="Root">The root with everything below it.</param>
/// <param name="Files">Files and links, each name counted.</param>
/// <param name="Folders">Folders, the root included.</param>
/// <param name="Bytes">Bytes of all files; hard-linked content counts once.</param>
/// <param name="Allocated">Bytes of these that are no holes, as the source says.</param>
/// <param name="Latest">The latest change time of anything in it, in 100 ns since 1601.</param>
/// <param name="FilesRead">Files that were read to be compared with an earlier image and are as they were.</param>
/// <param name="BytesRead">Bytes of these.</param>
/// <param name="Excluded">What was left out.</param>
/// <param name="Warnings">What should be known.</param>
public sealed record SourceTree(
    SourceNode Root, long Files, long Folders, long Bytes, long Allocated, long Latest, long FilesRead, long BytesRead,
    IReadOnlyList<ExcludedEntry> Excluded, IReadOnlyList<string> Warnings)
{
    /// <summary>Paths of what was found by its record on the volume, and is not in its folder's list.</summary>
    public IReadOnlyList<string> Unlisted { get; init; } = [];

    /// <summary>Files that the volume keeps compacted.</summary>
    public CompactedCount Compacted { get; init; } = new(0, 0, 0);
}
