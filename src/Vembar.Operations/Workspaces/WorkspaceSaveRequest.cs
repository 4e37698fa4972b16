using Vembar.Store.Compression;

namespace Vembar.Operations.Workspaces;

/// <summary>How a workspace is saved.</summary>
public sealed record WorkspaceSaveRequest
{
    /// <summary>The workspace.</summary>
    public required string Folder { get; init; }

    /// <summary>The name of a new image; null to take the image's place.</summary>
    public string? As { get; init; }

    /// <summary>The archive, where it is not any more where it was; null for there.</summary>
    public string? Archive { get; init; }

    /// <summary>Whether more than half of the files may be gone.</summary>
    public bool AcceptRemovals { get; init; }

    /// <summary>What is said of the result.</summary>
    public ImageTitle Title { get; init; } = new();

    /// <summary>How hard to compress what is new.</summary>
    public Effort Effort { get; init; } = Effort.Balanced;

    /// <summary>How long to wait for another writer.</summary>
    public TimeSpan Wait { get; init; }
}
