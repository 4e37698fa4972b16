namespace Vembar.Cli;

internal sealed record BaseJson(Guid Id, string Name);
