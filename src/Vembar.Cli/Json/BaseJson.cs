namespace Vembar.Cli.Json;

internal sealed record BaseJson(Guid Id, string Name);
