namespace Vembar.Cli.Json;

internal sealed record InstalledJson(string Name, string Version, string Title, string Kind, string? ReplacedBy);
