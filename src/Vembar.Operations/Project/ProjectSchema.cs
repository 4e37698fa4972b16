using System.Text.Json;
using System.Text.Json.Nodes;

namespace Vembar.Operations.Project;

/// <summary>The JSON Schema of project files, for editors and for checks in version control.</summary>
/// <remarks>JSON Schema draft 2020-12.</remarks>
public static class ProjectSchema
{
    /// <summary>The schema as text.</summary>
    public static string Text()
    {
        using var stream = new MemoryStream();
        using (var writer = new Utf8JsonWriter(stream, new JsonWriterOptions { Indented = true, NewLine = "\n" }))
            Schema().WriteTo(writer);
        return System.Text.Encoding.UTF8.GetString(stream.ToArray()) + "\n";
    }

    private static JsonObject Of(string type, string description) => new() { ["type"] = type, ["description"] = description };

    private static JsonObject Texts(string description) => new()
    {
        ["description"] = description,
        ["oneOf"] = new JsonArray(new JsonObject { ["type"] = "string", ["minLength"] = 1 }, new JsonObject
        {
            ["type"] = "array",
            ["items"] = new JsonObject { ["type"] = "string", ["minLength"] = 1 },
        }),
    };

    private static JsonObject Schema() => new()
    {
        ["$schema"] = "https://json-schema.org/draft/2020-12/schema",
        ["title"] = "Vembar project file",
        ["description"] = "What all commands below a folder take for granted.",
        ["type"] = "object",
        ["additionalProperties"] = false,
        ["properties"] = new JsonObject
        {
            ["archive"] = Of("string", "The archive that is meant where none is named."),
            ["version"] = Of("string", "How the next version of an image is called: {year}, {month}, {day}, {week}, {counter}."),
            ["channels"] = Texts("The channels that images may be in, in the order in which they get there."),
            ["trust"] = Texts("Certificates that are trusted for drivers: files, or folders of them."),
            ["signers"] = Texts("Certificates of those who sign images."),
            ["hardware"] = Texts("Hardware profiles: files, or folders of them."),
            ["rules"] = Of("string", "The organisation's own readiness rules."),
            ["ca"] = Of("string", "Certificates of who vouches for web servers and registries."),
            ["station"] = Of("string", "The station's address."),
            ["sites"] = new JsonObject
            {
                ["type"] = "object",
                ["description"] = "Places that keep copies of images, by their names.",
                ["additionalProperties"] = Site(),
            },
        },
    };

    private static JsonObject Site() => new()
    {
        ["type"] = "object",
        ["required"] = new JsonArray("place"),
        ["additionalProperties"] = false,
        ["properties"] = new JsonObject
        {
            ["place"] = Of("string", "The archive there: a path, or oci://REGISTRY/NAME."),
            ["channels"] = Texts("It keeps what these channels point at."),
            ["newest"] = new JsonObject
            {
                ["type"] = "integer",
                ["minimum"] = 0,
                ["maximum"] = 1000,
                ["description"] = "It keeps so many of the newest versions.",
            },
            ["names"] = Texts("Of images with these names; * and ? match. All without it."),
        },
    };
}
