using Vembar.Images.Records;

namespace Vembar.Operations.Workspaces;

/// <summary>What a workspace notes before it is saved, so that a run that is killed between the archive's commit and its own can be gone
/// on with.</summary>
internal sealed record PendingSave
{
    /// <summary>The image's record as it is about to be committed; its last history entry tells it from all others.</summary>
    public required ImageRecord Image { get; init; }
}
