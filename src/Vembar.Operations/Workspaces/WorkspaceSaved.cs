using Vembar.Images.Records;

namespace Vembar.Operations.Workspaces;

/// <summary>What saving a workspace did.</summary>
/// <param name="Status">What was changed.</param>
/// <param name="Image">The image as it is recorded now.</param>
/// <param name="Written">Whether the archive was changed.</param>
/// <param name="BytesStored">Bytes that the archive grew by.</param>
/// <param name="Seconds">Time taken.</param>
public sealed record WorkspaceSaved(WorkspaceStatus Status, ImageRecord Image, bool Written, long BytesStored, double Seconds)
{
    /// <summary>What should be known.</summary>
    public IReadOnlyList<string> Notes { get; init; } = [];
}
