using Spectre.Console;

namespace Vembar.Cli;

/// <summary>
/// Rows under headings. On a terminal long cells wrap within the width; piped, and when there are very many rows, every
/// record is one line and nothing is cut.
/// </summary>
internal sealed class Table(params string[] columns)
{
    private const int MostWrapped = 300;
    private readonly List<string[]> _rows = [];

    public Table Row(params string[] cells)
    {
        _rows.Add([.. cells.Select(Text.Safe)]);
        return this;
    }

    public void Print(Session session)
    {
        if (session.IsPlain || _rows.Count > MostWrapped)
            PrintLines();
        else
            PrintWrapped(session);
    }

    /// <summary>Whether a column is for numbers and stands to the right: its heading begins with '>'.</summary>
    private static bool IsNumber(string column) => column.StartsWith('>');

    private void PrintLines()
    {
        var headings = columns.Select(c => c.TrimStart('>')).ToArray();
        var widths = headings.Select((h, i) => _rows.Select(r => r[i].Length).Append(h.Length).Max()).ToArray();
        var output = new System.Text.StringBuilder();
        foreach (var row in _rows.Prepend(headings))
        {
            var line = string.Join("  ", row.Select((cell, i) => IsNumber(columns[i]) ? cell.PadLeft(widths[i]) : cell.PadRight(widths[i])));
            output.Append(line.TrimEnd()).Append('\n');
        }
        Console.Out.Write(output);
    }

    private void PrintWrapped(Session session)
    {
        var table = new Spectre.Console.Table().Border(TableBorder.None);
        foreach (var column in columns)
        {
            table.AddColumn(new TableColumn(new Spectre.Console.Text(column.TrimStart('>'), new Style(decoration: Decoration.Bold)))
            {
                Alignment = IsNumber(column) ? Justify.Right : Justify.Left,
                Padding = new Padding(0, 0, column == columns[^1] ? 0 : 2, 0),
                NoWrap = IsNumber(column),
            });
        }
        foreach (var row in _rows)
            table.AddRow(row.Select(c => new Spectre.Console.Text(c)));
        session.Print(table);
    }
}
