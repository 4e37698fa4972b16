namespace Vembar.Cli.Commands.Places;

internal sealed record LoginJson(string Place, string? User, string File);
