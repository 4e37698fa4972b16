namespace Vembar.Cli.Completion;

/// <summary>Something that the word at the cursor may become.</summary>
/// <param name="Value">The whole word.</param>
/// <param name="Text">What it is; empty for nothing.</param>
internal sealed record Candidate(string Value, string Text = "");
