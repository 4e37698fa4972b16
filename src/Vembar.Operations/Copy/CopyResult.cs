using Vembar.Images.Records;

namespace Vembar.Operations.Copy;

/// <summary>What copying did.</summary>
/// <param name="Archive">The archive that it was copied into.</param>
/// <param name="Image">The image as recorded there.</param>
/// <param name="Stats">Figures; files and bytes read are those that were not there yet.</param>
/// <param name="WholeBlocks">Blocks that went over as they are.</param>
public sealed record CopyResult(string Archive, ImageRecord Image, StoreStats Stats, long WholeBlocks)
{
    /// <summary>What should be known.</summary>
    public IReadOnlyList<string> Notes { get; init; } = [];
}
