using Vembar.Images.Records;

namespace Vembar.Cli;

internal sealed record WorkspaceOpenJson(string Folder, ImageRecord Image, long Files, long Bytes, double Seconds,
    IReadOnlyList<string> Warnings);
