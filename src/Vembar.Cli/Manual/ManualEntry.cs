namespace Vembar.Cli.Manual;

/// <summary>An operand, an option or a command, and what it is for.</summary>
/// <param name="Term">As it is written.</param>
/// <param name="Text">What it is for, without a full stop.</param>
internal sealed record ManualEntry(string Term, string Text);
