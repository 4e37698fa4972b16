using System.Text;
using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.Json.Nodes;

namespace Vembar.Common.Formats;

/// <summary>Parts of JSON Schemas (draft 2020-12) that describe YAML files to editors.</summary>
public static class JsonSchema
{
    /// <summary>The draft, as a schema names it.</summary>
    public const string Draft = "https://json-schema.org/draft/2020-12/schema";

    /// <summary>A schema as text, indented, with a line end behind it.</summary>
    public static string Text(JsonObject schema)
    {
        using var stream = new MemoryStream();
        using (var writer = new Utf8JsonWriter(stream, new JsonWriterOptions
        {
            Indented = true,
            NewLine = "\n",
            Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
        }))
            schema.WriteTo(writer);
        return Encoding.UTF8.GetString(stream.ToArray()) + "\n";
    }

    /// <summary>Names in a list.</summary>
    public static JsonArray Names(params IEnumerable<string> names) => new([.. names.Select(n => (JsonNode)n)]);

    /// <summary>A value of a type.</summary>
    public static JsonObject Of(string type, string description) => new() { ["type"] = type, ["description"] = description };

    /// <summary>A text, or a list of texts.</summary>
    public static JsonObject Texts(string description) => new()
    {
        ["description"] = description,
        ["oneOf"] = new JsonArray(new JsonObject { ["type"] = "string", ["minLength"] = 1 }, new JsonObject
        {
            ["type"] = "array",
            ["items"] = new JsonObject { ["type"] = "string", ["minLength"] = 1 },
        }),
    };

    /// <summary>A whole number.</summary>
    public static JsonObject Count(string description, int least, int most) => new()
    {
        ["type"] = "integer",
        ["minimum"] = least,
        ["maximum"] = most,
        ["description"] = description,
    };

    /// <summary>One of several words.</summary>
    public static JsonObject Word(string description, IEnumerable<string> words) => new()
    {
        ["description"] = description,
        ["enum"] = Names(words),
    };
}
