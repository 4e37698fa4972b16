namespace Vembar.Cli.Commands.Starters;

internal sealed record StarterListJson(IReadOnlyList<StarterJson> Starters);
