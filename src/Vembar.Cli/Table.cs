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
    private const int PageOfText = 1 << 14;

    // Cells one after the other, and where each ends, some hundred rows together: a string for each would be the collector's to
    // move, and one array of all is copied each time it grows.
    private sealed class Page
    {
        public List<char> Text { get; } = new(PageOfText);
        public List<int> Ends { get; } = [];
    }

    private readonly List<Page> _pages = [];

    public Table Row(params ReadOnlySpan<string> cells)
    {
        if (_pages.Count == 0 || _pages[^1].Text.Count > PageOfText * 3 / 4)
            _pages.Add(new Page());
        foreach (var cell in cells)
        {
            _pages[^1].Text.AddRange(Text.Safe(cell).AsSpan());
            _pages[^1].Ends.Add(_pages[^1].Text.Count);
        }
        return this;
    }

    private int RowsIn(Page page) => page.Ends.Count / columns.Length;

    private ReadOnlySpan<char> Cell(Page page, int row, int column)
    {
        var at = row * columns.Length + column;
        var start = at == 0 ? 0 : page.Ends[at - 1];
        return CollectionsMarshal.AsSpan(page.Text)[start..page.Ends[at]];
    }

    /// <summary>Prints it.</summary>
    /// <param name="session">Where.</param>
    /// <param name="without">A column to leave out; none when negative.</param>
    public void Print(Session session, int without = -1)
    {
        var displayName = Enumerable.Range(0, columns.Length).Where(c => c != without).ToArray();
        if (session.IsPlain || _pages.Sum(RowsIn) > MostWrapped)
            PrintLines(displayName);
        else
            PrintWrapped(session, displayName);
    }

    /// <summary>Whether a column is for numbers and stands to the right: its heading begins with '>'.</summary>
    private static bool IsNumber(string column) => column.StartsWith('>');

    private void PrintLines(int[] displayName)
    {
        var widths = columns.Select(c => c.TrimStart('>').Length).ToArray();
        foreach (var page in _pages)
        {
            for (var row = 0; row < RowsIn(page); row++)
            {
                foreach (var column in displayName)
                    widths[column] = Math.Max(widths[column], Cell(page, row, column).Length);
            }
        }
        var output = new System.Text.StringBuilder();
        Line(output, displayName, widths, null, 0);
        foreach (var page in _pages)
        {
            for (var row = 0; row < RowsIn(page); row++)
            {
                Line(output, displayName, widths, page, row);
                if (output.Length < PieceOfOutput)
                    continue;
                Console.Out.Write(output);
                output.Clear();
            }
        }
        Console.Out.Write(output);
    }

    // A row, or the headings where there is no page.
    private void Line(System.Text.StringBuilder output, int[] displayName, int[] widths, Page? page, int row)
    {
        var spaces = 0;
        foreach (var column in displayName)
        {
            var cell = page is null ? columns[column].AsSpan().TrimStart('>') : Cell(page, row, column);
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
    }

    private void PrintWrapped(Session session, int[] displayName)
    {
        var table = new Spectre.Console.Table().Border(TableBorder.None);
        foreach (var column in displayName.Select(c => columns[c]))
        {
            table.AddColumn(new TableColumn(new Spectre.Console.Text(column.TrimStart('>'), new Style(decoration: Decoration.Bold)))
            {
                Alignment = IsNumber(column) ? Justify.Right : Justify.Left,
                Padding = new Padding(0, 0, column == columns[displayName[^1]] ? 0 : 2, 0),
                NoWrap = IsNumber(column),
            });
        }
        foreach (var page in _pages)
        {
            for (var row = 0; row < RowsIn(page); row++)
                table.AddRow(displayName.Select(c => new Spectre.Console.Text(Cell(page, row, c).ToString())));
        }
        session.Print(table);
    }
}
