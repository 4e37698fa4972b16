using System.Text;
using Vembar.Cli.Charts;
using Vembar.Operations.Survey;

namespace Vembar.Cli.Commands.Survey;

/// <summary>What a disk or folder holds, as a page.</summary>
internal static class SurveyPage
{
    public static string Of(SurveyResult result, DateTime now)
    {
        var page = new StringBuilder(Page.Begin($"What is on {Path.GetFileName(result.Source)}", $"{result.Source} · {Text.Time(now)}",
            ChartScripts.Policy));
        var installs = result.Volumes.Where(v => v.Windows is not null).ToList();
        page.Append(Page.Verdict(installs.Count > 0, installs.Count > 0
            ? string.Join("; ", installs.Select(v => $"{v.Windows!.Product}, build {v.Windows.Build}, {Fields.State(v.Windows.State)}"))
            : "No Windows was found.", string.Join("; ", result.Warnings)));
        if (result.Disk is { } disk)
        {
            page.Append($"<h2>Volumes</h2>\n<p class=\"soft\">{Page.E(disk.Format)}, {Text.Size(disk.Bytes)}, "
                + $"{(disk.Scheme == "none" ? "not divided" : $"divided by {disk.Scheme.ToUpperInvariant()}")}, sectors of "
                + $"{disk.SectorSize} bytes</p>\n");
            page.Append(new BarChart("volumes", "How large volumes are, and how much of them is in use", ChartUnit.Bytes,
                [.. result.Volumes.Select(v => $"{v.Number} {v.Role}".Trim())],
                [
                    new ChartSeries("In use", [.. result.Volumes.Select(v => v.Used ?? 0)]),
                    new ChartSeries("Free, or not known", [.. result.Volumes.Select(v => v.Length - (v.Used ?? 0))], Colour: 6),
                ]).Html());
        }
        var table = new PageTable(page, ">Volume", "Holds", "File system", "Label", ">Size", ">Used", "What");
        foreach (var volume in result.Volumes)
        {
            var what = volume.Problem.Length > 0 ? volume.Problem : volume.Take is { } take
                ? $"a capture would take {Text.Count(take.Files, "file")}, {Text.Size(take.Bytes)}" : "";
            table.Row($"{volume.Number}", volume.Role, volume.FileSystem, volume.Label, $"{Text.Size(volume.Length)}",
                volume.Used is { } used ? $"{Text.Size(used)}" : "", what);
        }
        table.End();
        foreach (var volume in installs)
        {
            var windows = volume.Windows!;
            page.Append($"<h2>Windows on volume {volume.Number}</h2>\n");
            var facts = new PageTable(page, "", "");
            foreach (var (name, value) in ((string, string)[])[("Product", $"{windows.Product}, build {windows.Build}"),
                ("Architecture", windows.Architecture), ("Edition", windows.Edition), ("Languages", string.Join(", ", windows.Languages)),
                ("Computer name", windows.ComputerName), ("State", Fields.State(windows.State)),
                ("Programs", Text.Number(volume.Programs))])
                facts.Row(name, value);
            facts.End();
        }
        return page.Append(ChartScripts.Html).Append(Page.End).ToString();
    }
}
