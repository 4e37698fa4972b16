namespace Vembar.Cli.Commands.Take;

internal sealed record TakeJson(string To, long Files, long Bytes, IReadOnlyList<string> Paths, IReadOnlyList<string> Warnings);
