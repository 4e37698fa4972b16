using System.Text.Json.Nodes;
using Vembar.Common.Formats;

namespace Vembar.Windows.Servicing.Orders;

/// <summary>The JSON Schema of work orders, for editors and for checks in version control.</summary>
/// <remarks>JSON Schema draft 2020-12. YAML reads yes, no, on, off and numbers as what they look like, so those are taken too.</remarks>
public static class OrderSchema
{
    /// <summary>Its title.</summary>
    public const string Title = "Vembar work order";

    /// <summary>The schema as text.</summary>
    public static string Text() => JsonSchema.Text(Schema());

    private static JsonObject Schema() => new()
    {
        ["$schema"] = JsonSchema.Draft,
        ["title"] = Title,
        ["description"] = "A list of changes to an image.",
        ["type"] = "object",
        ["required"] = JsonSchema.Names("changes"),
        ["additionalProperties"] = false,
        ["properties"] = new JsonObject
        {
            ["title"] = JsonSchema.Of("string", "What it is for."),
            ["variables"] = new JsonObject
            {
                ["description"] = "Texts that stand wherever ${NAME} does; --set NAME=TEXT gives another for one run.",
                ["type"] = "object",
                ["propertyNames"] = new JsonObject { ["pattern"] = WorkOrder.VariableForm },
                ["additionalProperties"] = Value(OrderForm.Text, "", []),
            },
            ["trust"] = JsonSchema.Texts("Certificates that vouch for drivers: files and folders."),
            ["for"] = JsonSchema.Texts("Hardware profiles: only drivers that their devices would get go in."),
            ["changes"] = new JsonObject
            {
                ["type"] = "array",
                ["minItems"] = 1,
                ["items"] = new JsonObject { ["oneOf"] = new JsonArray([.. OrderKind.All.Select(Change)]) },
            },
        },
    };

    private static JsonNode Change(OrderKind kind)
    {
        var properties = new JsonObject { [kind.Name] = Value(kind.Form, kind.Meaning, kind.Choices) };
        foreach (var field in kind.Further)
            properties[field.Name] = Value(field.Form, field.Meaning, field.Choices);
        return new JsonObject
        {
            ["type"] = "object",
            ["required"] = JsonSchema.Names([kind.Name, .. kind.Fields.Where(f => f.Needed).Select(f => f.Name)]),
            ["additionalProperties"] = false,
            ["properties"] = properties,
        };
    }

    private static JsonObject Value(OrderForm form, string meaning, IReadOnlyList<string> choices)
    {
        var value = form switch
        {
            OrderForm.YesNo => new JsonObject { ["enum"] = new JsonArray(true, false, "yes", "no") },
            OrderForm.OnOff => new JsonObject { ["enum"] = new JsonArray(true, false, "on", "off") },
            OrderForm.Codes => new JsonObject
            {
                ["oneOf"] = new JsonArray(
                    new JsonObject
                    {
                        ["type"] = JsonSchema.Names("integer", "string"),
                        ["pattern"] = "^[0-9, -]+$",
                    }, new JsonObject { ["type"] = "array", ["minItems"] = 1, ["items"] = new JsonObject { ["type"] = "integer" } }),
            },
            OrderForm.Words => new JsonObject
            {
                ["oneOf"] = new JsonArray(OneOrMore(choices), new JsonObject
                {
                    ["type"] = "array",
                    ["minItems"] = 1,
                    ["items"] = Word(choices),
                }),
            },
            OrderForm.File => new JsonObject { ["type"] = "string", ["minLength"] = 1 },
            _ => new JsonObject { ["type"] = JsonSchema.Names("string", "number", "boolean") },
        };
        if (meaning.Length > 0)
            value["description"] = meaning;
        return value;
    }

    private static JsonObject Word(IReadOnlyList<string> choices) => choices.Count == 0 ? new JsonObject
    {
        ["type"] = "string",
    } : new JsonObject { ["enum"] = JsonSchema.Names([.. choices]) };

    private static JsonObject OneOrMore(IReadOnlyList<string> choices)
    {
        if (choices.Count == 0)
            return new JsonObject { ["type"] = "string" };
        var any = $"({string.Join('|', choices)})";
        return new JsonObject { ["type"] = "string", ["pattern"] = $"^{any}([ ,]+{any})*$" };
    }
}
