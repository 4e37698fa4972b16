using Vembar.Images.Records;

namespace Vembar.Cli.Commands.Workspaces;

internal sealed record WorkspaceSaveJson(string Archive, ImageRecord Image, bool Written, long BytesStored, double Seconds,
    WorkspaceStatusJson Workspace, IReadOnlyList<string> Warnings);
