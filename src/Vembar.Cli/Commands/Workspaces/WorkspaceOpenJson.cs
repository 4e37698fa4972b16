using Vembar.Images.Records;

namespace Vembar.Cli.Commands.Workspaces;

internal sealed record WorkspaceOpenJson(string Folder, ImageRecord Image, long Files, long Bytes, double Seconds,
    IReadOnlyList<string> Warnings);
