using System.Text;

namespace Vembar.Cli;

/// <summary>A table of a page.</summary>
internal sealed class PageTable
{
    private readonly StringBuilder _page;
    private readonly bool[] _isNumber;

    /// <summary>Begins a table.</summary>
    /// <param name="page">The page.</param>
    /// <param name="headings">The headings of the columns; those of numbers begin with "&gt;".</param>
    public PageTable(StringBuilder page, params IReadOnlyList<string> headings)
    {
        _page = page;
        _isNumber = [.. headings.Select(h => h.StartsWith('>'))];
        page.Append("<div class=\"scroll\"><table>");
        if (headings.Any(h => h.Length > 0))
            Head(headings);
        page.Append("<tbody>\n");
    }

    private void Head(IReadOnlyList<string> headings)
    {
        _page.Append("<thead><tr>");
        for (var at = 0; at < headings.Count; at++)
            _page.Append(_isNumber[at] ? $"<th class=\"n\">{Page.E(headings[at][1..])}</th>" : $"<th>{Page.E(headings[at])}</th>");
        _page.Append("</tr></thead>");
    }

    /// <summary>Adds a row of texts.</summary>
    public void Row(params IReadOnlyList<string> cells)
    {
        _page.Append("<tr>");
        for (var at = 0; at < cells.Count; at++)
            _page.Append(_isNumber[at] ? $"<td class=\"n\">{Page.E(cells[at])}</td>" : $"<td>{Page.E(cells[at])}</td>");
        _page.Append("</tr>\n");
    }

    /// <summary>Adds a row of cells as they are, with their tags.</summary>
    public void Cells(params IEnumerable<string> cells) => _page.Append("<tr>").AppendJoin("", cells).Append("</tr>\n");

    /// <summary>Ends the table.</summary>
    public void End() => _page.Append("</tbody></table></div>\n");
}
