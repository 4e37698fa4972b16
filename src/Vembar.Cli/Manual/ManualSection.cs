namespace Vembar.Cli.Manual;

/// <summary>What belongs together in a command's help.</summary>
internal sealed record ManualSection(string Title, IReadOnlyList<ManualEntry> Entries);
