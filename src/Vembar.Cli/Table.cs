using Spectre.Console;

namespace Vembar.Cli;

/// <summary>Rows under headings. On a terminal it follows the width; piped, every record is one line and nothing is cut.</summary>
internal sealed class Table
{
    private readonly Spectre.Console.Table _table = new Spectre.Console.Table().Border(TableBorder.None);

    /// <param name="columns">Headings; one that begins with '>' is for numbers and stands to the right.</param>
    public Table(params string[] columns)
    {
        foreach (var column in columns)
        {
            var heading = new TableColumn(new Spectre.Console.Text(column.TrimStart('>'), new Style(decoration: Decoration.Bold)));
            heading.Alignment = column.StartsWith('>') ? Justify.Right : Justify.Left;
            heading.Padding = new Padding(0, 0, 2, 0);
            heading.NoWrap = column.StartsWith('>');
            _table.AddColumn(heading);
        }
        _table.Columns[^1].Padding = new Padding(0);
    }

    public Table Row(params string[] cells)
    {
        _table.AddRow(cells.Select(c => new Spectre.Console.Text(Text.Safe(c))));
        return this;
    }

    public void Print(Session session) => session.Print(_table);
}
