namespace Vembar.Operations.Workspaces;

/// <summary>Which image to lay open, and where.</summary>
/// <param name="Image">The image.</param>
/// <param name="Folder">A folder that does not exist, or is empty.</param>
/// <param name="Only">Paths to lay open; none for all.</param>
public sealed record WorkspaceOpenRequest(ImageReference Image, string Folder, IReadOnlyList<string> Only);
