namespace Vembar.Cli;

internal sealed record FirstStartJson(string Name, string Command, IReadOnlyList<int> Good);
