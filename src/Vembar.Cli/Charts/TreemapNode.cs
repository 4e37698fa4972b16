using System.Text.Json.Nodes;

namespace Vembar.Cli.Charts;

/// <summary>A part of a whole that may have parts of its own.</summary>
internal sealed record TreemapNode(string Name, long Bytes, IReadOnlyList<TreemapNode> Parts)
{
    public JsonObject Json()
    {
        var json = new JsonObject { ["name"] = Name, ["value"] = Bytes };
        if (Parts.Count > 0)
            json["children"] = new JsonArray([.. Parts.Select(p => (JsonNode)p.Json())]);
        return json;
    }
}
