using System.Globalization;
using System.Text;
using Vembar.Cli.Charts;
using Vembar.Operations.Report;

namespace Vembar.Cli.Commands.Report;

/// <summary>An archive as a page with charts.</summary>
internal sealed class ReportPage
{
    // What can be told apart on a screen.
    private const int MostCompared = 40, MostListed = 12;

    private readonly ReportResult _report;
    private readonly StringBuilder _page = new();
    private readonly IReadOnlyList<string> _titles;

    private ReportPage(ReportResult report)
    {
        _report = report;
        _titles = [.. report.Images.Select(i => $"{i.Record.Number} {Title(i)}")];
    }

    /// <summary>The page.</summary>
    public static string Of(ReportResult report, DateTime now)
    {
        var page = new ReportPage(report);
        page.Head(now);
        if (report.Images.Count > 0)
        {
            page.Growth();
            page.Sharing();
            page.Lineage();
            page.Space();
            page.Contents();
        }
        page.History();
        return page._page.Append(ChartScripts.Html).Append(Page.End).ToString();
    }

    private static string Title(ReportedImage image) => image.Record.Version.Length > 0 ? $"{image.Record.Name} {image.Record.Version}"
        : image.Record.Name;

    private void Head(DateTime now)
    {
        var sharing = _report.Sharing;
        _page.Append(Page.Begin($"Report on {Path.GetFileName(_report.Archive)}", $"{_report.Archive} · {Text.Time(now)}",
            ChartScripts.Policy));
        Facts(("Images", Text.Number(_report.Images.Count)), ("File", Text.Size(_report.FileLength)),
            ("In the images", Text.Size(sharing.Total)), ("Each piece once", Text.Size(sharing.Distinct)),
            ("Each piece is in", sharing.Distinct == 0 ? "–"
                : $"{((double)sharing.Total / sharing.Distinct).ToString("0.0", CultureInfo.InvariantCulture)} images, on average"));
        if (_report.Problems.Count > 0)
            _page.Append(Page.Verdict(false, $"{Text.Count(_report.Problems.Count, "part")} of it cannot be read.",
                string.Join("; ", _report.Problems)));
    }

    private void Facts(params (string Name, string Value)[] facts) => _page.Append("<dl class=\"facts\">")
        .AppendJoin("", facts.Select(f => $"<div><dt>{Page.E(f.Name)}</dt><dd>{Page.E(f.Value)}</dd></div>")).Append("</dl>\n");

    private void Section(string heading, string text) =>
        _page.Append($"<h2>{Page.E(heading)}</h2>\n<p class=\"soft\">{Page.E(text)}</p>\n");

    private void Growth()
    {
        Section("Growth", "By how much the archive grew when each image was added.");
        _page.Append(new BarChart("growth", "By how much the archive grew with each image", ChartUnit.Bytes, _titles,
            [new ChartSeries("Grew by", [.. _report.Images.Select(i => i.Record.BytesAdded)])]).Html());
        if (ByMonth() is { Count: > 1 } months)
        {
            _page.Append("<p class=\"soft\">The same by month, with all that was done to the archive.</p>\n");
            _page.Append(new BarChart("months", "By how much the archive grew in each month", ChartUnit.Bytes,
                [.. months.Select(m => m.Month)], [new ChartSeries("Grew by", [.. months.Select(m => m.Bytes)])]).Html());
        }
        var table = new PageTable(_page, ">", "Image", "Added", ">Files", ">In it", ">Grew by", ">In no other image");
        for (var at = 0; at < _titles.Count; at++)
        {
            var image = _report.Images[at].Record;
            table.Row($"{image.Number}", Title(_report.Images[at]), Text.Time(image.Created), $"{Text.Number(image.Files)}",
                $"{Text.Size(image.Bytes)}", $"{Text.Size(image.BytesAdded)}", $"{Text.Size(_report.Sharing.Own[at])}");
        }
        table.End();
    }

    private List<(string Month, long Bytes)> ByMonth() => [.. _report.States.Zip(_report.States.Skip(1)).GroupBy(pair =>
        pair.Second.Time.ToString("yyyy-MM", CultureInfo.InvariantCulture), StringComparer.Ordinal)
        .OrderBy(m => m.Key, StringComparer.Ordinal).Select(m => (m.Key, m.Sum(pair => Math.Max(0, pair.Second.End - pair.First.End))))];

    private void Sharing()
    {
        var count = _titles.Count;
        if (count < 2)
            return;
        // The newest are those that people ask about.
        var first = Math.Max(0, count - MostCompared);
        var sharing = _report.Sharing;
        Section("What images share", "How much of an image (row) is in another one (column) too, by bytes of content."
            + (first > 0 ? $" The newest {MostCompared} of {count}." : ""));
        double Part(int row, int column) => sharing.Between(first + row, first + row) is > 0 and var all
            ? (double)sharing.Between(first + row, first + column) / all : 0;
        _page.Append(new MatrixChart("sharing", "How much of each image is in each other image", [.. _titles.Skip(first)],
            [.. _report.Images.Skip(first).Select(i => $"{i.Record.Number}")], Part,
            (row, column) => row == column ? $"{_titles[first + row]}: {Text.Size(sharing.Between(first + row, first + row))}"
                : $"{Text.Size(sharing.Between(first + row, first + column))} of {_titles[first + row]} in {_titles[first + column]} too")
            .Html());
    }

    private void Lineage()
    {
        Section("Where images come from", "What was captured, what was made from it, and which channels point there.");
        var children = _report.Images.ToLookup(i => i.Parent);
        LineageNode Node(ReportedImage image) => new($"{image.Record.Number} {Title(image)}", Detail(image), Marks(image),
            [.. children[image.Record.Number].Select(Node)]);
        var roots = children[null].GroupBy(i => i.Source, StringComparer.Ordinal).Select(source => new LineageNode(
            SourceName(source.Key), source.Key, [], [.. source.Select(Node)]));
        _page.Append(new LineageChart("lineage", "What was made from what", [.. roots]).Html());
    }

    private static string SourceName(string source) => source.Length == 0 ? "another archive, or an image that was dropped"
        : Path.GetFileName(source.TrimEnd('/')) is { Length: > 0 } name ? name : source;

    private static string Detail(ReportedImage image) =>
        $"{(image.Record.History is [.., var last] ? Done(last.Action) : "made")} {Text.Time(image.Record.Created)}";

    private static string Done(string action) => action switch
    {
        "capture" => "captured",
        "service" => "serviced",
        "copy" => "copied",
        _ => action,
    };

    private static IReadOnlyList<string> Marks(ReportedImage image) => [.. image.Record.Channels ?? [],
        .. image.Record.Locked ? ["locked"] : Array.Empty<string>(), .. image.Record.Held ? ["held"] : Array.Empty<string>(),
        .. image.Record.Retires is { } day ? [$"retires {day:yyyy-MM-dd}"] : Array.Empty<string>()];

    private void Space()
    {
        if (_report.Space is not { } space)
            return;
        var title = _titles[_report.Images.ToList().FindIndex(i => i.Record.Number == space.Number)];
        Section("Space by folder", $"In image {title}: {Text.Size(space.Root.Bytes)} in {Text.Count(space.Root.Files, "file")}. "
            + "What is linked from several places counts once.");
        _page.Append(new TreemapChart("folders", $"Which folders of image {title} take how much", title, Areas(space.Root)).Html());
        if (space.Programs.Count == 0)
            return;
        Section("Space by program", $"In image {title}: what is in a program's folder, or what its set-up estimated where it names none.");
        _page.Append(new TreemapChart("programs", $"Which programs of image {title} take how much", title, [.. space.Programs
            .GroupBy(p => p.Publisher, StringComparer.OrdinalIgnoreCase).Select(publisher => new TreemapNode(
                publisher.Key.Length > 0 ? publisher.Key : "no publisher", publisher.Sum(p => p.Bytes),
                [.. publisher.Select(p => new TreemapNode(p.Name, p.Bytes, []))]))]).Html());
        _page.Append("<details><summary>All programs</summary>");
        var table = new PageTable(_page, "Program", "Version", "Publisher", ">Takes", "");
        foreach (var program in space.Programs)
            table.Row(program.Name, program.Version, program.Publisher, $"{Text.Size(program.Bytes)}",
                program.IsMeasured ? "" : "estimated");
        table.End();
        _page.Append("</details>\n");
    }

    private static List<TreemapNode> Areas(FolderSpace folder)
    {
        var parts = folder.Folders.Select(f => new TreemapNode(f.Name, f.Bytes, f.Folders.Count > 0 ? Areas(f) : [])).ToList();
        if (folder.Rest > 0 && parts.Count > 0)
            parts.Add(new TreemapNode("the rest", folder.Rest, []));
        return parts;
    }

    private void Contents()
    {
        var windows = _report.Images.Where(i => i.Contents.Programs is not null).ToList();
        if (windows.Count == 0)
            return;
        Section("What images hold", "Programs, drivers that were added, packages, and features that are on.");
        _page.Append(new BarChart("contents", "How many programs, drivers, packages and features each image has", ChartUnit.Count,
            [.. windows.Select(i => $"{i.Record.Number} {Title(i)}")],
            [
                new ChartSeries("Programs", [.. windows.Select(i => (long)i.Contents.Programs!.Count)]),
                new ChartSeries("Drivers", [.. windows.Select(i => (long)(i.Contents.Drivers?.Count ?? 0))]),
                new ChartSeries("Packages", [.. windows.Select(i => (long)(i.Contents.Packages?.Count(p => p.ReplacedBy is null) ?? 0))]),
                new ChartSeries("Features", [.. windows.Select(i => (long)FeaturesOf(i).Count())]),
            ]).Html());
        var shown = windows.TakeLast(MostListed).ToList();
        if (shown.Count < windows.Count)
            _page.Append($"<p class=\"soft\">The tables have the newest {MostListed} images.</p>\n");
        Versions("Drivers", shown, i => i.Contents.Drivers?.Select(d => ($"{d.Provider}: {d.OriginalInf}", d.Version)) ?? []);
        Versions("Packages", shown, i => i.Contents.Packages?.Where(p => p.ReplacedBy is null)
            .Select(p => (p.Manifest.Name, p.Title[p.Manifest.Name.Length..].Trim())) ?? []);
        Versions("Programs", shown, i => i.Contents.Programs!.Select(p => (p.Name, p.Version)));
        Versions("Features", shown, i => FeaturesOf(i).Select(f => (f, "on")));
    }

    /// <summary>The features of an image that are on.</summary>
    public static IEnumerable<string> FeaturesOf(ReportedImage image) => (image.Contents.Packages ?? [])
        .Where(p => p.ReplacedBy is null).SelectMany(p => p.Features).Where(f => f.IsOn).Select(f => f.Feature.Name).Distinct();

    // Which version of what is in which image.
    private void Versions(string what, List<ReportedImage> images, Func<ReportedImage, IEnumerable<(string Name, string Version)>> of)
    {
        var columns = images.ConvertAll(i => of(i).ToLookup(o => o.Name, o => o.Version, StringComparer.OrdinalIgnoreCase));
        var names = columns.SelectMany(c => c.Select(g => g.Key)).Distinct(StringComparer.OrdinalIgnoreCase)
            .Order(StringComparer.OrdinalIgnoreCase).ToList();
        if (names.Count == 0)
            return;
        _page.Append($"<details class=\"tight\"{(names.Count <= MostListed ? " open" : "")}><summary>{what} "
            + $"({Text.Number(names.Count)})</summary>");
        var table = new PageTable(_page, [what, .. images.Select(i => $"{i.Record.Number} {Title(i)}")]);
        foreach (var name in names)
            _page.Append($"<tr><td>{Page.E(name)}</td>").AppendJoin("", columns.Select(c => c.Contains(name)
                ? $"<td>{Page.E(string.Join(", ", c[name].Distinct()) is { Length: > 0 } version ? version : "yes")}</td>"
                : "<td class=\"none\">–</td>")).Append("</tr>\n");
        table.End();
        _page.Append("</details>\n");
    }

    private void History()
    {
        Section("History", "What each state since the archive was made or last compacted added to the file.");
        var states = _report.States.OrderBy(s => s.Number).ToList();
        var grown = states.Select((s, at) => at == 0 ? 0 : Math.Max(0, s.End - states[at - 1].End)).ToList();
        if (states.Count > 1)
        {
            var first = Math.Max(1, states.Count - MostCompared);
            _page.Append(new BarChart("history", "What each state of the archive added to the file", ChartUnit.Bytes,
                [.. states.Skip(first).Select(s => $"{s.Number}: {s.Change}")], [new ChartSeries("Added", [.. grown.Skip(first)])]).Html());
        }
        var table = new PageTable(_page, ">State", "Time", "By", "Change", ">Images", ">Added", ">File until there");
        for (var at = states.Count - 1; at >= 0; at--)
            table.Row($"{states[at].Number}", Text.Time(states[at].Time), states[at].By, states[at].Change,
                $"{states[at].Images.Count}", $"{Text.Size(grown[at])}", $"{Text.Size(states[at].End)}");
        table.End();
    }
}
