using Vembar.Images.Records;
using Vembar.Volumes.Sources;

namespace Vembar.Operations.Files;

/// <summary>What a capture of a volume would take.</summary>
/// <param name="Files">Files and links, each name counted.</param>
/// <param name="Bytes">Their bytes; hard-linked content counts once.</param>
/// <param name="Excluded">What would be left out.</param>
public sealed record WouldTake(long Files, long Bytes, IReadOnlyList<ExcludedEntry> Excluded)
{
    /// <summary>Files that the volume keeps compacted.</summary>
    public CompactedCount Compacted { get; init; } = new(0, 0, 0);
}
