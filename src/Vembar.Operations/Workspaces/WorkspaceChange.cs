namespace Vembar.Operations.Workspaces;

/// <summary>A change in a workspace.</summary>
/// <param name="Kind">What became of it.</param>
/// <param name="Path">Its path now; of what is gone, its path before.</param>
/// <param name="From">Of what was moved, its path before; else empty.</param>
/// <param name="What">What is different: content, time, owner, link, attributes, security and so on; empty for what was added or
/// removed.</param>
/// <param name="Bytes">Bytes that the image holds more for it, or less.</param>
public sealed record WorkspaceChange(WorkspaceChangeKind Kind, string Path, string From, IReadOnlyList<string> What, long Bytes);
