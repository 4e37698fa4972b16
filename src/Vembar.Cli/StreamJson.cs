namespace Vembar.Cli;

internal sealed record StreamJson(string Name, long Bytes, string Hash);
