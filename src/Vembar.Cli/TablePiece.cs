namespace Vembar.Cli;

/// <summary>A piece of a table's line.</summary>
/// <param name="Column">The column that it belongs to; -1 for a heading that stands before its cell.</param>
/// <param name="Spaces">How many spaces stand before it.</param>
/// <param name="Text">What it says.</param>
internal sealed record TablePiece(int Column, int Spaces, string Text);
