namespace Vembar.Cli.Commands.Starters;

internal sealed record StarterImageJson(string Path, long Bytes, string Sha256, string Name, string Version, IReadOnlyList<string> Images);
