namespace Vembar.Cli.Json;

internal sealed record WindowsJson(string Product, string Edition, string InstallType, string Build, string Architecture,
    IReadOnlyList<string> Languages, string ComputerName, string State);
