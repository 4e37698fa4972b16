using System.Text.Json.Nodes;
using Vembar.Common.Formats;

namespace Vembar.Operations.Builds;

/// <summary>The JSON Schema of recipes, for editors and for checks in version control.</summary>
/// <remarks>JSON Schema draft 2020-12.</remarks>
public static class RecipeSchema
{
    /// <summary>Its title.</summary>
    public const string Title = "Vembar recipe";

    /// <summary>The schema as text.</summary>
    public static string Text() => JsonSchema.Text(Schema());

    private static JsonObject Variables(string description) => new()
    {
        ["type"] = "object",
        ["description"] = description,
        ["additionalProperties"] = new JsonObject { ["type"] = JsonSchema.Names("string", "number") },
    };

    private static JsonObject Flag(string description) => new()
    {
        ["description"] = description,
        ["enum"] = new JsonArray(true, false, "yes", "no"),
    };

    private static JsonObject Parts(string description, JsonObject properties, params string[] required) => new()
    {
        ["type"] = "object",
        ["description"] = description,
        ["additionalProperties"] = false,
        ["properties"] = properties,
        ["required"] = JsonSchema.Names(required),
    };

    private static JsonObject ListOf(string description, JsonObject item) => new()
    {
        ["description"] = description,
        ["oneOf"] = new JsonArray(item, new JsonObject { ["type"] = "array", ["items"] = item.DeepClone() }),
    };

    private static JsonObject Schema()
    {
        var schema = Parts("How an image is made, from a reference to its channel and its sites.", new JsonObject
        {
            ["title"] = JsonSchema.Of("string", "What it makes, for people."),
            ["variables"] = Variables("Names and their texts, used as ${NAME}. Built in: "
                + string.Join(", ", RecipeVariables.BuiltIn) + "."),
            ["from"] = JsonSchema.Of("string", "What it begins with: a disk, a folder, an image (NAME@CHANNEL, ARCHIVE#NUMBER)."),
            ["prepare"] = Prepare(),
            ["ready"] = Parts("Whether the install may be captured.", new JsonObject
            {
                ["check"] = Flag("Whether that is looked at."),
                ["rules"] = JsonSchema.Of("string", "The organisation's own rules."),
                ["accept"] = JsonSchema.Texts("Findings that do not stop it, by their short words; all for any."),
            }),
            ["capture"] = Parts("The image.", new JsonObject
            {
                ["archive"] = JsonSchema.Of("string", "The archive; the project file's where none is named."),
                ["name"] = JsonSchema.Of("string", "The image's name."),
                ["version"] = new JsonObject
                {
                    ["type"] = JsonSchema.Names("string", "number"),
                    ["description"] = "The image's version; the next one where none is named.",
                },
                ["edition"] = JsonSchema.Of("string", "The image's edition."),
                ["note"] = JsonSchema.Of("string", "A remark."),
                ["effort"] = JsonSchema.Word("How hard to compress.", RecipeFile.Efforts),
                ["leave-out"] = JsonSchema.Texts("Patterns of what to leave out."),
            }, "name"),
            ["service"] = ListOf("Work orders, in their order.", new JsonObject
            {
                ["oneOf"] = new JsonArray(JsonSchema.Of("string", "The order's file."),
                    Parts("An order with texts for its variables.", new JsonObject
                    {
                        ["order"] = JsonSchema.Of("string", "The order's file."),
                        ["set"] = Variables("Texts for its variables."),
                    }, "order")),
            }),
            ["expect"] = JsonSchema.Texts("Files of expectations."),
            ["sign"] = Parts("Who signs it.", new JsonObject
            {
                ["key"] = JsonSchema.Of("string", "The key, PEM."),
                ["certificate"] = JsonSchema.Of("string", "The certificate, PEM."),
            }, "key", "certificate"),
            ["mark"] = Parts("What is said of it in the archive.", new JsonObject
            {
                ["channel"] = JsonSchema.Texts("Channels that are to point at it."),
                ["retire-before"] = JsonSchema.Count("In how many days the version before it is retired.", 0, 3650),
            }),
            ["sync"] = JsonSchema.Texts("Sites that get it, by their names in the project file; all for all."),
            ["keep"] = JsonSchema.Count("How many versions are kept, this one among them; what is locked or in a channel stays.", 1, 1000),
            ["tell"] = ListOf("Who is told how it went.", Parts("A program or an address.", new JsonObject
            {
                ["run"] = JsonSchema.Texts("A program and its arguments; it reads the run's state."),
                ["post"] = JsonSchema.Of("string", "An address, to which the run's state is posted."),
            })),
        }, "from", "capture");
        schema["$schema"] = JsonSchema.Draft;
        schema["title"] = Title;
        return schema;
    }

    private static JsonObject Prepare() => Parts("How a copy of the disk is made ready; the disk itself is only read.", new JsonObject
    {
        ["run"] = JsonSchema.Texts("A program and its arguments instead of a virtual machine; {disk} stands for the copy."),
        ["limit"] = JsonSchema.Of("string", "How long it may take: 90 min, 3 h."),
        ["memory"] = JsonSchema.Of("string", "The machine's memory: 4 GiB."),
        ["processors"] = JsonSchema.Count("The machine's processors.", 1, 256),
        ["firmware"] = JsonSchema.Word("What the machine starts by.", RecipeFile.Firmwares),
        ["network"] = Flag("Whether the machine reaches the network."),
        ["emulate"] = Flag("Whether the machine is emulated also where the processor could run it."),
        ["files"] = JsonSchema.Texts("Files and folders that it finds on a second, small disk."),
        ["answers"] = JsonSchema.Of("string", "An answer file, which lies on that disk."),
        ["medium"] = JsonSchema.Of("string", "A disc that it starts from."),
    });
}
