namespace Vembar.Cli.Commands.Show;

internal sealed record FirstStartJson(string Name, string Command, IReadOnlyList<int> Good);
