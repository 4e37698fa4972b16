namespace Vembar.Operations.Workspaces;

/// <summary>Which workspace to close.</summary>
/// <param name="Folder">The workspace.</param>
/// <param name="LoseChanges">Whether what was not saved is lost; without it a workspace with changes stays.</param>
/// <param name="Archive">The archive, where it is not any more where it was; null for there.</param>
public sealed record WorkspaceCloseRequest(string Folder, bool LoseChanges, string? Archive);
