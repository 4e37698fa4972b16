using System.Text;
using Vembar.Cli.Charts;
using Vembar.Cli.Commands.Projects;
using Vembar.Operations.Sites;

namespace Vembar.Cli.Commands.Report;

/// <summary>What is at which site, as a page.</summary>
internal static class SitesPage
{
    public static string Of(string archive, IReadOnlyList<SiteState> states, DateTime now)
    {
        var page = new StringBuilder(Page.Begin("What is where", $"copies of {archive} · {Text.Time(now)}", ChartScripts.Policy));
        var wrong = states.Where(s => !s.IsInOrder).Select(s => s.Site.Name).ToList();
        page.Append(Page.Verdict(wrong.Count == 0, wrong.Count == 0 ? $"{Text.Count(states.Count, "site")}: all as it should be."
            : $"{Text.Count(wrong.Count, "site")} of {states.Count} {(wrong.Count == 1 ? "is" : "are")} not as it should be: "
                + $"{string.Join(", ", wrong)}.", wrong.Count == 0 ? "" : "vembar sync brings what is missing."));
        page.Append(Counts(states).Html());

        var names = states.SelectMany(s => s.Images.Select(i => i.Name)).Distinct(StringComparer.OrdinalIgnoreCase)
            .Order(StringComparer.OrdinalIgnoreCase).ToList();
        page.Append("<h2>Versions</h2>\n");
        var table = new PageTable(page, ["Site", .. names.Select(n => n.Length > 0 ? n : "damaged"), "Compared"]);
        foreach (var state in states)
        {
            page.Append($"<tr><th>{Page.E(state.Site.Name)}<small class=\"soft\"> {Page.E(state.Site.Place)}</small></th>");
            if (state.Problem is { } problem)
                page.Append($"<td class=\"refused\" colspan=\"{Math.Max(1, names.Count)}\">cannot be compared: "
                    + $"{Page.E(AdviceText.MessageOf(problem))}</td>");
            else
                page.AppendJoin("", names.Select(n => Cell(state.Images.FirstOrDefault(i =>
                    i.Name.Equals(n, StringComparison.OrdinalIgnoreCase)))));
            page.Append($"<td>{(state.Compared is { } time ? Text.Time(time) : "never")}</td></tr>\n");
        }
        table.End();
        return page.Append(ChartScripts.Html).Append(Page.End).ToString();
    }

    private static BarChart Counts(IReadOnlyList<SiteState> states)
    {
        ChartSeries Series(string name, int colour, Func<SiteImages, int> of) =>
            new(name, [.. states.Select(s => (long)s.Images.Sum(of))], colour);
        return new BarChart("sites", "How many versions are there, missing, or otherwise at each site", ChartUnit.Count,
            [.. states.Select(s => s.Site.Name)],
            [Series("There", 3, i => i.There.Count), Series("Missing", 5, i => i.Missing.Count),
                Series("Need not be there", 6, i => i.Extra.Count),
                Series("Another content, or damaged", 2, i => i.Differing.Count + i.Damaged.Count)]);
    }

    private static string Cell(SiteImages? image)
    {
        if (image is null)
            return "<td class=\"none\">–</td>";
        var parts = new List<string>();
        void Add(string mark, string words, IReadOnlyList<string> versions)
        {
            if (versions.Count > 0)
                parts.Add($"<span class=\"{mark}\">{Page.E(words + SitesCommand.List(versions))}</span>");
        }
        Add("done", "", image.There);
        Add("refused", "missing: ", image.Missing);
        Add("note", "need not be there: ", image.Extra);
        Add("refused", "another content: ", image.Differing);
        Add("refused", "damaged: ", image.Damaged);
        Add("warn", "other marks or channels: ", image.Marks);
        return $"<td>{string.Join("<br>", parts)}</td>";
    }
}
