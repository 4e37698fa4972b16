namespace Vembar.Cli.Manual;

/// <summary>A piece of a text: code stands between backticks, but for blocks of code.</summary>
/// <param name="Kind">What it is.</param>
/// <param name="Text">What it says; lines of code with their ends between them.</param>
/// <param name="Term">What an item explains; empty for an item of a list.</param>
internal sealed record TextBlock(TextBlockKind Kind, string Text, string Term = "");
