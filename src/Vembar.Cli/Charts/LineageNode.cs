using System.Text.Json.Nodes;

namespace Vembar.Cli.Charts;

/// <summary>Something, and what was made from it.</summary>
/// <param name="Name">What it is.</param>
/// <param name="Detail">More of it, in a few words; may be empty.</param>
/// <param name="Marks">Where it is in use: channels; may be none.</param>
/// <param name="Made">What was made from it.</param>
internal sealed record LineageNode(string Name, string Detail, IReadOnlyList<string> Marks, IReadOnlyList<LineageNode> Made)
{
    /// <summary>Those from which nothing was made.</summary>
    public int Ends => Made.Count == 0 ? 1 : Made.Sum(m => m.Ends);

    public JsonObject Json() => new()
    {
        ["name"] = Name,
        ["detail"] = Detail,
        ["marks"] = string.Join(", ", Marks),
        ["children"] = new JsonArray([.. Made.Select(m => (JsonNode)m.Json())]),
    };

    public string Html() => $"<li><b>{Page.E(Name)}</b> <span class=\"soft\">{Page.E(Detail)}</span>"
        + string.Concat(Marks.Select(m => $" <span class=\"mark\">{Page.E(m)}</span>"))
        + (Made.Count == 0 ? "" : $"<ul>{string.Concat(Made.Select(m => m.Html()))}</ul>") + "</li>\n";
}
