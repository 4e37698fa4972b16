namespace Vembar.Cli.Commands.Guide;

internal sealed record VersionJson(string Version, string Commit, IReadOnlyDictionary<string, string?> Libraries);
