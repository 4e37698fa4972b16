using Vembar.Images.Records;
using Vembar.Volumes.Targets;

namespace Vembar.Operations.Deploy;

/// <summary>What a deployment did.</summary>
/// <param name="Image">The image.</param>
/// <param name="Target">Where it went.</param>
/// <param name="Files">Files and links written.</param>
/// <param name="Bytes">Bytes written.</param>
/// <param name="Seconds">Time taken.</param>
/// <param name="Kept">Files that were there and were left as they are.</param>
/// <param name="Differences">What reading back found; empty when all is right or nothing was read back.</param>
/// <param name="Verified">Whether everything was read back.</param>
/// <param name="Warnings">What should be known.</param>
/// <param name="Resumed">Files that an earlier, broken-off run of the same deployment had written whole.</param>
/// <param name="Volumes">The volumes of a disk that was written; empty for a folder.</param>
public sealed record DeployResult(
    ImageRecord Image, string Target, long Files, long Bytes, double Seconds, IReadOnlyList<string> Kept,
    IReadOnlyList<string> Differences, bool Verified, IReadOnlyList<string> Warnings,
    long Resumed, IReadOnlyList<WrittenVolume> Volumes)
{
    /// <summary>What the target cannot keep, and reading back did not compare: each with how many entries it concerns.</summary>
    public IReadOnlyDictionary<string, long> NotKept { get; init; } = new Dictionary<string, long>();

    /// <summary>Files that were written compacted.</summary>
    public CompactedCount Compacted { get; init; } = new(0, 0, 0);
}
