namespace Vembar.Operations.Workspaces;

/// <summary>Which workspace to look at.</summary>
/// <param name="Folder">The workspace.</param>
/// <param name="Archive">The archive, where it is not any more where it was; null for there.</param>
public sealed record WorkspaceStatusRequest(string Folder, string? Archive);
