using Vembar.Images.Records;

namespace Vembar.Cli.Commands.Workspaces;

internal sealed record WorkspaceStatusJson(
    string Folder, string Archive, ImageRecord Image, IReadOnlyList<string> Only, IReadOnlyList<WorkspaceChangeJson> Changes,
    IReadOnlyList<string> Problems, IReadOnlyList<string> Warnings, long FilesRead, double Seconds);
