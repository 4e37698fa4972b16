namespace Vembar.Cli.Commands.Files;

internal sealed record StreamJson(string Name, long Bytes, string Hash);
