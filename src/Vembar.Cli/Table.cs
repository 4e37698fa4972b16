using System.Runtime.InteropServices;
using Spectre.Console;

namespace Vembar.Cli;

/// <summary>
/// Rows under headings. On a terminal long cells wrap within the width; piped, and when there are very many rows, every
/// record is one line and nothing is cut.
/// </summary>
internal sealed class Table(params string[] columns)
{
    private const int MostWrapped = 300;
    private const int PieceOfOutput = 1 << 16;

    // All cells one after the other, and where each ends: of a hundred thousand rows every string would be the collector's to move.
    private readonly List<char> _text = [];
    private readonly List<int> _ends = [];

    public Table Row(params ReadOnlySpan<string> cells)
    {
        foreach (var cell in cells)
        {
            _text.AddRange(Text.Safe(cell));
            _ends.Add(_text.Count);
        }
        return this;
    }

    private int Rows => _ends.Count / columns.Length;

    private ReadOnlySpan<char> Cell(int row, int column)
    {
        var at = row * columns.Length + column;
        var start = at == 0 ? 0 : _ends[at - 1];
        return CollectionsMarshal.AsSpan(_text)[start.._ends[at]];
    }

    /// <summary>Prints it.</summary>
    /// <param name="session">Where.</param>
    /// <param name="without">A column to leave out; none when negative.</param>
    public void Print(Session session, int without = -1)
    {
        var shown = Enumerable.Range(0, columns.Length).Where(c => c != without).ToArray();
        if (session.IsPlain || Rows > MostWrapped)
            PrintLines(shown);
        else
            PrintWrapped(session, shown);
    }

    /// <summary>Whether a column is for numbers and stands to the right: its heading begins with '>'.</summary>
    private static bool IsNumber(string column) => column.StartsWith('>');

    private void PrintLines(int[] shown)
    {
        var widths = columns.Select(c => c.TrimStart('>').Length).ToArray();
        for (var row = 0; row < Rows; row++)
        {
            foreach (var column in shown)
                widths[column] = Math.Max(widths[column], Cell(row, column).Length);
        }
        var output = new System.Text.StringBuilder();
        for (var row = -1; row < Rows; row++)
        {
            var spaces = 0;
            foreach (var column in shown)
            {
                var cell = row < 0 ? columns[column].AsSpan().TrimStart('>') : Cell(row, column);
                var padding = widths[column] - cell.Length;
                if (IsNumber(columns[column]))
                    (spaces, padding) = (spaces + padding, 0);
                // No line ends with spaces.
                if (!cell.IsEmpty)
                {
                    output.Append(' ', spaces).Append(cell);
                    spaces = 0;
                }
                spaces += padding + 2;
            }
            output.Append('\n');
            if (output.Length < PieceOfOutput)
                continue;
            Console.Out.Write(output);
            output.Clear();
        }
        Console.Out.Write(output);
    }

    private void PrintWrapped(Session session, int[] shown)
    {
        var table = new Spectre.Console.Table().Border(TableBorder.None);
        foreach (var column in shown.Select(c => columns[c]))
        {
            table.AddColumn(new TableColumn(new Spectre.Console.Text(column.TrimStart('>'), new Style(decoration: Decoration.Bold)))
            {
                Alignment = IsNumber(column) ? Justify.Right : Justify.Left,
                Padding = new Padding(0, 0, column == columns[shown[^1]] ? 0 : 2, 0),
                NoWrap = IsNumber(column),
            });
        }
        for (var row = 0; row < Rows; row++)
            table.AddRow(shown.Select(c => new Spectre.Console.Text(Cell(row, c).ToString())));
        session.Print(table);
    }
}
