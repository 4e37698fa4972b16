namespace Vembar.Cli;

internal sealed record WorkspaceCloseJson(string Folder, int Lost);
