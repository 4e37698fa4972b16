using System.Runtime.InteropServices;
using System.Text;

namespace Vembar.Cli;

/// <summary>
/// Rows under headings. On a terminal they are fitted into its width; piped, and when there are very many rows, every record is one
/// line and nothing is cut.
/// </summary>
/// <param name="headings">The headings: see <see cref="TableColumn.Parse"/>.</param>
internal sealed class Table(params string[] headings)
{
    private readonly TableColumn[] _columns = [.. headings.Select(TableColumn.Parse)];

    private const int MostWrapped = 300;
    private const int PieceOfOutput = 1 << 16;
    private const int PageOfText = 1 << 14;

    // Cells one after the other in UTF-8, and where each ends, some hundred rows together: a string for each would be the collector's
    // to move, and one array of all is copied each time it grows.
    private sealed class Page
    {
        public List<byte> Text { get; } = new(PageOfText);
        public List<int> Ends { get; } = [];
    }

    private readonly List<Page> _pages = [];

    public Table Row(params ReadOnlySpan<string> cells)
    {
        if (_pages.Count == 0 || _pages[^1].Text.Count > PageOfText * 3 / 4)
            _pages.Add(new Page());
        foreach (var cell in cells)
        {
            _pages[^1].Text.AddRange(Encoding.UTF8.GetBytes(Text.Safe(cell)).AsSpan());
            _pages[^1].Ends.Add(_pages[^1].Text.Count);
        }
        return this;
    }

    private int RowsIn(Page page) => page.Ends.Count / _columns.Length;

    private ReadOnlySpan<byte> Bytes(Page page, int row, int column)
    {
        var at = row * _columns.Length + column;
        var start = at == 0 ? 0 : page.Ends[at - 1];
        return CollectionsMarshal.AsSpan(page.Text)[start..page.Ends[at]];
    }

    private string Cell(Page page, int row, int column) => Encoding.UTF8.GetString(Bytes(page, row, column));

    /// <summary>Prints it.</summary>
    /// <param name="session">Where.</param>
    /// <param name="without">A column to leave out; none when negative.</param>
    public void Print(Session session, int without = -1)
    {
        var shown = Enumerable.Range(0, _columns.Length).Where(c => c != without).ToArray();
        if (Console.IsOutputRedirected || _pages.Sum(RowsIn) > MostWrapped)
            PrintLines(shown);
        else
            PrintFitted(session, shown);
    }

    private void PrintLines(int[] shown)
    {
        var widths = _columns.Select(c => c.Heading.Length).ToArray();
        foreach (var page in _pages)
        {
            for (var row = 0; row < RowsIn(page); row++)
            {
                foreach (var column in shown)
                    widths[column] = Math.Max(widths[column], Encoding.UTF8.GetCharCount(Bytes(page, row, column)));
            }
        }
        var output = new StringBuilder();
        Line(output, shown, widths, null, 0);
        foreach (var page in _pages)
        {
            for (var row = 0; row < RowsIn(page); row++)
            {
                Line(output, shown, widths, page, row);
                if (output.Length < PieceOfOutput)
                    continue;
                Console.Out.Write(output);
                output.Clear();
            }
        }
        Console.Out.Write(output);
    }

    // A row, or the headings where there is no page.
    private void Line(StringBuilder output, int[] shown, int[] widths, Page? page, int row)
    {
        var spaces = 0;
        foreach (var column in shown)
        {
            var cell = page is null ? _columns[column].Heading : Cell(page, row, column);
            var padding = widths[column] - cell.Length;
            if (_columns[column].IsNumber)
                (spaces, padding) = (spaces + padding, 0);
            // No line ends with spaces.
            if (cell.Length > 0)
            {
                output.Append(' ', spaces).Append(cell);
                spaces = 0;
            }
            spaces += padding + 2;
        }
        output.Append('\n');
    }

    private void PrintFitted(Session session, int[] shown)
    {
        var rows = _pages.SelectMany(page => Enumerable.Range(0, RowsIn(page))
            .Select(row => shown.Select(c => Cell(page, row, c)).ToArray())).ToList();
        var output = new StringBuilder();
        foreach (var line in new TableLayout([.. shown.Select(c => _columns[c])], Terminal.Width).Lay(rows))
        {
            foreach (var (column, spaces, text) in line.Pieces)
            {
                output.Append(' ', spaces);
                output.Append(session.IsPlain ? text : line.Row < 0 || column < 0 ? Styles.Heading(text)
                    : _columns[shown[column]].IsState ? Styles.ByMeaning(text, rows[line.Row][column]) : text);
            }
            output.Append('\n');
        }
        Console.Out.Write(output);
    }
}
