using System.Text.Json.Nodes;
using Vembar.Common.Formats;

namespace Vembar.Operations.Project;

/// <summary>The JSON Schema of project files, for editors and for checks in version control.</summary>
/// <remarks>JSON Schema draft 2020-12.</remarks>
public static class ProjectSchema
{
    /// <summary>The schema as text.</summary>
    public static string Text() => JsonSchema.Text(Schema());

    private static JsonObject Schema() => new()
    {
        ["$schema"] = JsonSchema.Draft,
        ["title"] = "Vembar project file",
        ["description"] = "What all commands below a folder take for granted.",
        ["type"] = "object",
        ["additionalProperties"] = false,
        ["properties"] = new JsonObject
        {
            ["archive"] = JsonSchema.Of("string", "The archive that is meant where none is named."),
            ["version"] = JsonSchema.Of("string", "How the next version of an image is called: {year}, {month}, {day}, {week}, {counter}."),
            ["channels"] = JsonSchema.Texts("The channels that images may be in, in the order in which they get there."),
            ["trust"] = JsonSchema.Texts("Certificates that are trusted for drivers: files, or folders of them."),
            ["signers"] = JsonSchema.Texts("Certificates of those who sign images."),
            ["hardware"] = JsonSchema.Texts("Hardware profiles: files, or folders of them."),
            ["rules"] = JsonSchema.Of("string", "The organisation's own readiness rules."),
            ["ca"] = JsonSchema.Of("string", "Certificates of who vouches for web servers and registries."),
            ["station"] = JsonSchema.Of("string", "The station's address."),
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
        ["required"] = JsonSchema.Names("place"),
        ["additionalProperties"] = false,
        ["properties"] = new JsonObject
        {
            ["place"] = JsonSchema.Of("string", "The archive there: a path, or oci://REGISTRY/NAME."),
            ["channels"] = JsonSchema.Texts("It keeps what these channels point at."),
            ["newest"] = JsonSchema.Count("It keeps so many of the newest versions.", 0, 1000),
            ["names"] = JsonSchema.Texts("Of images with these names; * and ? match. All without it."),
        },
    };
}
