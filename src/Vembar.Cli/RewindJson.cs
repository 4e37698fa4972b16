namespace Vembar.Cli;

internal sealed record RewindJson(string Archive, StateJson State);
