using Vembar.Images.Records;

namespace Vembar.Operations.Workspaces;

/// <summary>What a workspace knows of itself. docs/workspaces.md.</summary>
internal sealed record WorkspaceState
{
    public const int NewestFormat = 1;

    public int Format { get; init; } = NewestFormat;

    /// <summary>opening, open or closing.</summary>
    public string State { get; init; } = "";

    /// <summary>Where the workspace was laid open.</summary>
    public string Folder { get; init; } = "";

    /// <summary>The archive, and which one it is.</summary>
    public string Archive { get; init; } = "";

    public Guid ArchiveId { get; init; }

    /// <summary>The image's record as it was when it was laid open, or saved last.</summary>
    public required ImageRecord Image { get; init; }

    /// <summary>The paths that were laid open; none for all.</summary>
    public IReadOnlyList<string> Only { get; init; } = [];

    /// <summary>The file that lists what was laid; each save writes another, so that list and image change together.</summary>
    public string Laid { get; init; } = "";
}
