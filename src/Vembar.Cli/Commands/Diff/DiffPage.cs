using System.Text;
using Vembar.Cli.Charts;
using Vembar.Operations.Diff;

namespace Vembar.Cli.Commands.Diff;

/// <summary>What differs between two images, as a page.</summary>
internal static class DiffPage
{
    public static string Of(DiffResult result, DateTime now)
    {
        var page = new StringBuilder(Page.Begin($"{result.From.Title} and {result.To.Title}",
            $"images {result.From.Number} and {result.To.Number} · {Text.Time(now)}", ChartScripts.Policy));
        if (result.Same)
            return page.Append(Page.Verdict(true, "The two images are the same.")).Append(Page.End).ToString();
        page.Append("<dl class=\"facts\">");
        foreach (var (name, count) in ((string, int)[])[("Added", result.Added.Count), ("Removed", result.Removed.Count),
            ("Changed", result.Changed.Count), ("Registry", result.Registry?.Count ?? 0)])
            page.Append($"<div><dt>{name}</dt><dd>{Text.Number(count)}</dd></div>");
        page.Append("</dl>\n<h2>Where</h2>\n");
        var tops = DiffCommand.Tops(result).ToList();
        page.Append(new BarChart("where", "How many paths differ in each folder of the root", ChartUnit.Count, [.. tops.Select(t => t.Top)],
            [
                new ChartSeries("Added", [.. tops.Select(t => (long)t.Added)], Colour: 3),
                new ChartSeries("Removed", [.. tops.Select(t => (long)t.Removed)], Colour: 5),
                new ChartSeries("Changed", [.. tops.Select(t => (long)t.Changed)], Colour: 2),
            ]).Html());
        var names = ((string, ChangedNames?)[])[("Programs", result.Programs), ("Drivers", result.Drivers), ("Packages", result.Packages),
            ("Features", result.Features)];
        if (names.Any(n => n.Item2 is { } changed && changed.Added.Count + changed.Removed.Count > 0))
        {
            page.Append("<h2>What they hold</h2>\n");
            var table = new PageTable(page, "", "Only in the second", "Only in the first");
            foreach (var (title, changed) in names.Where(n => n.Item2 is { } c && c.Added.Count + c.Removed.Count > 0))
                page.Append($"<tr><th>{title}</th><td class=\"more\">{string.Join("<br>", changed!.Added.Select(Page.E))}</td>"
                    + $"<td class=\"gone\">{string.Join("<br>", changed.Removed.Select(Page.E))}</td></tr>\n");
            table.End();
        }
        Section(page, "Added", result.Added, p => ($"<code>{Page.E(p)}</code>", ""));
        Section(page, "Removed", result.Removed, p => ($"<code>{Page.E(p)}</code>", ""));
        Section(page, "Changed", result.Changed, c => ($"<code>{Page.E(c.Path)}</code>", Page.E(string.Join(", ", c.What))));
        Section(page, "Registry", result.Registry ?? [], v => ($"<code>{Page.E($@"{v.Hive}\{v.Key}")}</code>",
            Page.E($"{v.What}: {v.Value switch { null => "the key", "" => "(default)", var name => name }}")));
        return page.Append(ChartScripts.Html).Append(Page.End).ToString();
    }

    private static void Section<T>(StringBuilder page, string title, IReadOnlyList<T> rows, Func<T, (string What, string Detail)> show)
    {
        // More than that is for a program to read.
        const int Most = 5000, Open = 40;
        if (rows.Count == 0)
            return;
        page.Append($"<details{(rows.Count <= Open ? " open" : "")}><summary>{title} ({Text.Number(rows.Count)})</summary>");
        var table = new PageTable(page, "What", "");
        foreach (var (what, detail) in rows.Take(Most).Select(show))
            table.Cells($"<td>{what}</td>", $"<td>{detail}</td>");
        table.End();
        if (rows.Count > Most)
            page.Append($"<p class=\"soft\">and {Text.Number(rows.Count - Most)} more; vembar diff --json has them all.</p>");
        page.Append("</details>\n");
    }
}
