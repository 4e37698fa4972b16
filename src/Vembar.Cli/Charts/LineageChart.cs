using System.Text.Json.Nodes;

namespace Vembar.Cli.Charts;

/// <summary>What was made from what; without a script as a list in lists.</summary>
internal sealed class LineageChart(string name, string title, IReadOnlyList<LineageNode> roots) : Chart(name, title)
{
    private const int Row = 64;

    protected override int Height => Math.Max(2, roots.Sum(r => r.Ends)) * Row;

    protected override JsonObject Data() => new()
    {
        ["kind"] = "lineage",
        ["nodes"] = new JsonArray([.. roots.Select(r => (JsonNode)r.Json())]),
    };

    protected override string Still() => $"<ul class=\"lineage\">{string.Concat(roots.Select(r => r.Html()))}</ul>";
}
