namespace Vembar.Cli;

/// <summary>
/// Fits rows under headings into a width: words and headings stay whole, paths break behind a slash, what is longer than its column is
/// shortened in its middle, columns of low value go, and where even that does not fit, every record stands by itself.
/// </summary>
/// <param name="columns">The columns.</param>
/// <param name="width">How many characters a line may have.</param>
internal sealed class TableLayout(IReadOnlyList<TableColumn> columns, int width)
{
    private const int Gap = 2;

    // What a text column should have before others go for it, and what a word that cannot be broken may take at most.
    private const int Comfortable = 18, LongestToken = 28, ShortestToken = 12;

    /// <summary>Lines of pieces, each with the column that it belongs to; the headings first, with row -1.</summary>
    /// <param name="rows">The cells of each row.</param>
    public IEnumerable<TableLine> Lay(IReadOnlyList<string[]> rows)
    {
        var shown = Enumerable.Range(0, columns.Count).Where(c => rows.Count == 0 || !columns[c].MayGo
            || rows.Any(r => r[c].Length > 0)).ToList();
        var natural = columns.Select((c, at) => Math.Max(c.Heading.Length, rows.Select(r => r[at].Length).DefaultIfEmpty(0).Max()))
            .ToArray();
        var least = columns.Select((c, at) => Math.Max(c.Heading.Length, c.IsNumber ? natural[at]
            : rows.SelectMany(r => LineBreaks.Parts(r[at])).Select(t => Math.Min(t.Text.Length, LongestToken)).DefaultIfEmpty(0).Max()))
            .ToArray();
        int Needed(int[] widths) => shown.Sum(c => widths[c]) + Gap * (shown.Count - 1);
        if (Needed(natural) > width)
        {
            // Empty columns say the least.
            shown.RemoveAll(c => rows.Count > 0 && rows.All(r => r[c].Length == 0));
            var wanted = natural.Select((n, c) => columns[c].IsNumber ? n : Math.Max(least[c], Math.Min(n, Comfortable))).ToArray();
            while (Needed(wanted) > width && shown.FindLastIndex(c => columns[c].MayGo) is >= 0 and var going)
                shown.RemoveAt(going);
            while (Needed(least) > width && shown.Where(c => least[c] > Math.Max(ShortestToken, columns[c].Heading.Length)
                && !columns[c].IsNumber).ToList() is { Count: > 0 } long_)
                least[long_.MaxBy(c => least[c])]--;
        }
        return Needed(least) > width ? Records(rows, [.. Enumerable.Range(0, columns.Count)])
            : Rows(rows, shown, Widths(rows, shown, natural, least));
    }

    // What is left is shared fairly: columns that lack little get it, those that lack much get equal parts of the rest.
    private int[] Widths(IReadOnlyList<string[]> rows, List<int> shown, int[] natural, int[] least)
    {
        var widths = (int[])least.Clone();
        var left = width - shown.Sum(c => widths[c]) - Gap * (shown.Count - 1);
        var open = shown.Where(c => widths[c] < natural[c]).OrderBy(c => natural[c] - widths[c]).ToList();
        for (var at = 0; at < open.Count; at++)
        {
            var part = Math.Min(natural[open[at]] - widths[open[at]], left / (open.Count - at));
            widths[open[at]] += part;
            left -= part;
        }
        // Room that no line uses is not held.
        foreach (var c in shown.Where(c => !columns[c].IsNumber))
            widths[c] = Math.Max(columns[c].Heading.Length, rows.SelectMany(r => LineBreaks.Cell(r[c], widths[c])).Select(l => l.Length)
                .DefaultIfEmpty(0).Max());
        return widths;
    }

    private IEnumerable<TableLine> Rows(IReadOnlyList<string[]> rows, List<int> shown, int[] widths)
    {
        yield return new TableLine(-1, Pieces(shown, widths, c => columns[c].Heading));
        for (var row = 0; row < rows.Count; row++)
        {
            var cells = shown.ToDictionary(c => c, c => LineBreaks.Cell(rows[row][c], widths[c]));
            for (var line = 0; line == 0 || cells.Values.Any(c => line < c.Count); line++)
            {
                var at = line;
                yield return new TableLine(row, Pieces(shown, widths, c => at < cells[c].Count ? cells[c][at] : ""));
            }
        }
    }

    private List<TablePiece> Pieces(List<int> shown, int[] widths, Func<int, string> text)
    {
        var pieces = new List<TablePiece>();
        var (at, start) = (0, 0);
        foreach (var column in shown)
        {
            var cell = text(column);
            if (cell.Length > 0)
            {
                var begin = start + (columns[column].IsNumber ? widths[column] - cell.Length : 0);
                pieces.Add(new TablePiece(column, begin - at, cell));
                at = begin + cell.Length;
            }
            start += widths[column] + Gap;
        }
        return pieces;
    }

    // Each record by itself, a line for each of its cells.
    private IEnumerable<TableLine> Records(IReadOnlyList<string[]> rows, List<int> shown)
    {
        var names = shown.Max(c => columns[c].Heading.Length);
        for (var row = 0; row < rows.Count; row++)
        {
            foreach (var column in shown.Where(c => rows[row][c].Length > 0))
            {
                var heading = columns[column].Heading;
                var first = true;
                foreach (var line in LineBreaks.Cell(rows[row][column], Math.Max(ShortestToken, width - names - Gap)))
                {
                    yield return new TableLine(row, first
                        ? [new TablePiece(-1, 0, heading), new TablePiece(column, names + Gap - heading.Length, line)]
                        : [new TablePiece(column, names + Gap, line)]);
                    first = false;
                }
            }
            if (row < rows.Count - 1)
                yield return new TableLine(row, []);
        }
    }
}
