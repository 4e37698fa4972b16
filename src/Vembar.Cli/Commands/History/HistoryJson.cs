namespace Vembar.Cli.Commands.History;

internal sealed record HistoryJson(string Archive, IReadOnlyList<StateJson> States);
