namespace Vembar.Cli.Commands.Builds;

internal sealed record BuildsCleanJson(IReadOnlyList<string> Runs, long BytesFreed);
