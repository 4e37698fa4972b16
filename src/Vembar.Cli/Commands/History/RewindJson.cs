namespace Vembar.Cli.Commands.History;

internal sealed record RewindJson(string Archive, StateJson State);
