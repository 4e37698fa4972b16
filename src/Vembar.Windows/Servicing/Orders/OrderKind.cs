using Vembar.Common;
using Vembar.Windows.Servicing.FirstStart;
using Vembar.Windows.Servicing.Languages;
using Vembar.Windows.Servicing.Mending;
using Vembar.Windows.Servicing.Tidying;

namespace Vembar.Windows.Servicing.Orders;

/// <summary>A kind of change that a work order may list: what reading, checking and the schema know of it.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Form">What its value may be.</param>
/// <param name="Meaning">What it does, for the schema.</param>
/// <param name="Fields">What else it may have.</param>
internal sealed record OrderKind(string Name, OrderForm Form, string Meaning, params OrderField[] Fields)
{
    /// <summary>The words that its value may hold; empty for any.</summary>
    public IReadOnlyList<string> Choices { get; init; } = [];

    private static readonly OrderField s_unsigned = new("allow-unsigned", OrderForm.YesNo, "Let drivers in that nobody trusted signed.");

    /// <summary>What every change may have.</summary>
    public static readonly OrderField Optional =
        new("optional", OrderForm.YesNo, "With --keep-going, the others are made when this one is refused.");

    /// <summary>All kinds.</summary>
    public static readonly IReadOnlyList<OrderKind> All =
    [
        new("driver", OrderForm.File, "Adds the driver packages below a folder that fit, also those in zip files; or one INF.", s_unsigned,
            new("replace-older", OrderForm.YesNo, "Take older versions of the same driver out."),
            new("every-version", OrderForm.YesNo, "Add all versions, not the newest alone.")),
        new("driver-path", OrderForm.File, "Lays driver packages where Windows looks when it meets a device.", s_unsigned),
        new("driver-out", OrderForm.Text, "Takes an added driver out: oem3.inf, or its INF's own name."),
        new("package", OrderForm.File, "Puts a package in, a folder or zip file."),
        new("package-out", OrderForm.Text, "Takes a package out; what it replaced is back."),
        new("feature", OrderForm.Text, "Switches a feature, or those that match a pattern, with what it needs.",
            new("state", OrderForm.OnOff, "On, if it does not say."),
            new("with-dependents", OrderForm.YesNo, "Switch off too what needs it.")),
        new("locale", OrderForm.Text, "Sets the language and formats: cy-GB.",
        new("parts", OrderForm.Words, "Some of display, system, user, input; all, if it does not say.")
        {
            Choices = LocaleChange.Parts,
        }, new("keyboard", OrderForm.Text, "The keyboard, if it is not the language's own: 0809:00000809.")),
        new("time-zone", OrderForm.Text, "Sets the time zone by Windows' name."),
        new("answers", OrderForm.File, "Checks an answer file, or makes one of a profile, and puts it where set-up looks for it.",
        new OrderField("merge", OrderForm.YesNo, "Merge it into the one that the image has.")),
        new("registry", OrderForm.File, "Makes the changes of a .reg file in the image's hives."),
        new("first-start", OrderForm.Text, "Runs a command once at the first start, before anybody logs on.",
        new("name", OrderForm.Text, "What the log calls it."), new("good", OrderForm.Codes, "Exit codes that mean success.")),
        new("put", OrderForm.File, "Puts a file, or a folder with all below it, into the image.",
        new OrderField("to", OrderForm.Text, "The path in the image; ending in '/', or a folder there, it means 'into it'.", Needed: true)),
        new("remove", OrderForm.Text, "Takes a path, or what matches a pattern, out of the image."),
        new("ballast", OrderForm.File, "Takes out what a file of rules names: bundled programs, provisioned apps.",
        new OrderField("rules", OrderForm.Words, "The names of those rules that are wanted; all, if it does not say.")),
        new("mend", OrderForm.Words,
        "Mends what the readiness checks find in the image, by the checks' names; 'all' are all of them but 'automatic-logon'.")
        {
            Choices = [MendRule.Everything, .. MendRule.All.Select(r => r.Name)],
        },
        new("tidy", OrderForm.Words, "Takes out what is not needed any more, by named rules; 'all' are all of them but 'registry'.")
        {
            Choices = ["all", .. TidyRule.All.Select(r => r.Name)],
        },
    ];

    /// <summary>The fields that a change of this kind may have beside its own.</summary>
    public IEnumerable<OrderField> Further => Fields.Append(Optional);

    /// <summary>The first word that is none of those that are possible; null when all are.</summary>
    public static string? Unknown(IEnumerable<string> words, IReadOnlyList<string> choices) =>
        choices.Count == 0 ? null : words.FirstOrDefault(w => !choices.Contains(w));

    /// <summary>Whether a field may be written as a list.</summary>
    public bool MayBeList(string field) =>
        (field == Name ? Form : Further.FirstOrDefault(f => f.Name == field)?.Form) is OrderForm.Words or OrderForm.Codes;

    /// <summary>Why a text cannot be a field's value; null when it can.</summary>
    public static string? Problem(OrderField field, string value) => field.Form switch
    {
        OrderForm.YesNo when value is not ("yes" or "no" or "true" or "false") => $"'{field.Name}' is yes or no",
        OrderForm.OnOff when value is not ("on" or "off") => $"'{field.Name}' is on or off",
        OrderForm.Codes when ExitCodes.Parse(value) is null => $"'{field.Name}' is a list of exit codes: 0, 3010",
        OrderForm.Words when Unknown(WorkOrder.Words(value), field.Choices) is { } unknown =>
            $"'{field.Name}' does not know '{unknown}'{EditDistance.Hint(unknown, field.Choices)}",
        _ when field.Needed && value.Length == 0 => $"'{field.Name}' is empty",
        _ => null,
    };
}
