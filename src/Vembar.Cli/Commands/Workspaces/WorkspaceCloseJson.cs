namespace Vembar.Cli.Commands.Workspaces;

internal sealed record WorkspaceCloseJson(string Folder, int Lost);
