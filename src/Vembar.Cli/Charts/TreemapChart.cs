using System.Text.Json.Nodes;

namespace Vembar.Cli.Charts;

/// <summary>Parts of a whole as areas within each other; without a script, the largest of them as bars.</summary>
internal sealed class TreemapChart(string name, string title, string whole, IReadOnlyList<TreemapNode> nodes) : Chart(name, title)
{
    private const int MostBars = 16;

    protected override int Height => 420;

    protected override JsonObject Data() => new()
    {
        ["kind"] = "areas",
        ["name"] = whole,
        ["nodes"] = new JsonArray([.. nodes.Select(n => (JsonNode)n.Json())]),
    };

    protected override string Still()
    {
        // Two levels down, each where it is largest.
        var largest = nodes.SelectMany(n => n.Parts.Count == 0 ? [(n.Name, n.Bytes)]
            : n.Parts.Select(p => (Name: $"{n.Name}/{p.Name}", p.Bytes))).OrderByDescending(p => p.Bytes).Take(MostBars).ToList();
        return BarChart.SvgOf(Title, ChartUnit.Bytes, [.. largest.Select(r => r.Name)],
            [new ChartSeries("", [.. largest.Select(r => r.Bytes)])]);
    }
}
