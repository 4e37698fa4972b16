namespace Vembar.Cli.Commands.Workspaces;

internal sealed record WorkspaceChangeJson(string Kind, string Path, string? From, IReadOnlyList<string> What, long Bytes);
