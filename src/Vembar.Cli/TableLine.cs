namespace Vembar.Cli;

/// <summary>A line of a table that was fitted into a width.</summary>
/// <param name="Row">The row that it belongs to; -1 for the headings.</param>
/// <param name="Pieces">What stands in it, from left to right.</param>
internal sealed record TableLine(int Row, IReadOnlyList<TablePiece> Pieces);
