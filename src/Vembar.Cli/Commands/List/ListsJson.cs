namespace Vembar.Cli.Commands.List;

internal sealed record ListsJson(IReadOnlyList<ListJson> Archives);
