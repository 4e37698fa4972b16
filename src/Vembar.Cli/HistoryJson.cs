namespace Vembar.Cli;

internal sealed record HistoryJson(string Archive, IReadOnlyList<StateJson> States);
