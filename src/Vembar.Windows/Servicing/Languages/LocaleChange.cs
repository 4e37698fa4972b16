using System.Globalization;
using System.Text;
using System.Text.RegularExpressions;
using Vembar.Common;
using Vembar.Windows.Install;
using Vembar.Windows.Registry;
using Vembar.Windows.Servicing.Registry;

namespace Vembar.Windows.Servicing.Languages;

/// <summary>Sets the language that Windows is shown in, the system's and new users' formats, and the keyboard.</summary>
/// <param name="name">The locale: cy-GB.</param>
/// <param name="parts">Some of display, system, user, input; empty for all.</param>
/// <param name="keyboard">The keyboard, when it is not the locale's own: 0809:00000809; or empty.</param>
/// <remarks>
/// Where Windows keeps them: the vendor's "National Language Support registry values", "Multilingual User Interface settings" and
/// "Keyboard Layout" pages. A new user's formats are those of the locale's name; single ones that an older locale left are taken away.
/// </remarks>
public sealed partial class LocaleChange(string name, IReadOnlyList<string> parts, string keyboard = "") : IChange
{
    /// <summary>What can be set by itself.</summary>
    public static IReadOnlyList<string> Parts { get; } = ["display", "system", "user", "input"];

    // What a user's formats consist of, beside the locale's name and number.
    private static readonly string[] s_formats =
    [
        "iCalendarType", "iCountry", "iCurrDigits", "iCurrency", "iDate", "iDigits", "iFirstDayOfWeek", "iFirstWeekOfYear", "iLZero",
        "iMeasure", "iNegCurr", "iNegNumber", "iPaperSize", "iTime", "iTimePrefix", "iTLZero",
        "NumShape", "s1159", "s2359", "sCountry", "sCurrency", "sDate", "sDecimal", "sGrouping", "sLanguage", "sList", "sLongDate",
        "sMonDecimalSep", "sMonGrouping", "sMonThousandSep", "sNativeDigits", "sNegativeSign",
        "sPositiveSign", "sShortDate", "sShortTime", "sThousand", "sTime", "sTimeFormat", "sYearMonth",
    ];

    [GeneratedRegex("^([0-9A-Fa-f]{4}):([0-9A-Fa-f]{8})$")]
    private static partial Regex KeyboardForm();

    /// <inheritdoc/>
    public IEnumerable<ChangeOutcome> Apply(ServiceContext context)
    {
        var wanted = parts.Count > 0 ? parts : Parts;
        ChangeOutcome Outcome(ChangeStatus status, string why) =>
            new("locale", parts.Count > 0 ? $"{name} ({string.Join(", ", parts)})" : name, status, why);
        if (context.Install is null || context.Hive("SYSTEM") is not { } system)
            return [Outcome(ChangeStatus.Refused, "the image holds no Windows")];
        if (wanted.FirstOrDefault(p => !Parts.Contains(p)) is { } unknown)
            return [Outcome(ChangeStatus.Refused, $"'{unknown}' is not a part of it; {string.Join(", ", Parts)} are")];
        if (KnownLocale.Named(name) is not { } locale)
            return [Outcome(ChangeStatus.Refused,
                $"'{name}' is not a locale that is known here{EditDistance.Hint(name, KnownLocale.Names)}")];
        if (keyboard.Length > 0 && !KeyboardForm().IsMatch(keyboard))
            return [Outcome(ChangeStatus.Refused, $"'{keyboard}' is not a keyboard: 0809:00000809 is one")];
        // What another change of the same order brought counts.
        var languages = WindowsInstall.ReadLanguages(system);
        bool Speaks(string language) => languages.Contains(language, StringComparer.OrdinalIgnoreCase);
        if (wanted.Contains("display") && !Speaks(locale.Name))
            return [Outcome(ChangeStatus.Refused, $"the image does not have the language {locale.Name}; it has "
                + $"{string.Join(", ", languages)}; a language package brings it")];
        if (!languages.Any(l => l.Split('-')[0].Equals(locale.Name.Split('-')[0], StringComparison.OrdinalIgnoreCase)))
            return [Outcome(ChangeStatus.Refused, $"the image does not have the language of {locale.Name}; it has "
                + $"{string.Join(", ", languages)}; a language package brings it")];
        var edits = new List<RegistryEdit>();
        var control = $@"{RegistryChange.CurrentSet(context)}\Control";
        foreach (var part in wanted)
            edits.AddRange(Edits(part, locale, control));
        if (edits.FirstOrDefault(e => context.Hive(e.Root) is null) is { } lacking)
            return [Outcome(ChangeStatus.Refused, $"the image has no hive {lacking.Root}")];
        var made = RegistryChange.MakeAll(context, edits);
        var pages = wanted.Contains("system") && locale.CodePage > 0
            ? string.Create(CultureInfo.InvariantCulture, $"; code pages {locale.CodePage} and {locale.ConsoleCodePage}") : "";
        return [made > 0
            ? Outcome(ChangeStatus.Done, $"{string.Join(", ", wanted)}: {locale.Name}{pages}")
            : Outcome(ChangeStatus.Already, "it is so")];
    }

    private IEnumerable<RegistryEdit> Edits(string part, KnownLocale locale, string control)
    {
        static RegistryEdit Text(string hive, string key, string value, string text) =>
            new(hive, key, value, RegistryEditKind.Set, RegistryType.String, Encoding.Unicode.GetBytes(text + "\0"));
        static RegistryEdit Texts(string hive, string key, string value, string text) =>
            new(hive, key, value, RegistryEditKind.Set, RegistryType.MultiString, Encoding.Unicode.GetBytes(text + "\0\0"));
        string[] users = [ServiceContext.NewUsers, "DEFAULT"];
        switch (part)
        {
            case "display":
                yield return Texts("SYSTEM", $@"{control}\MUI\Settings", "PreferredUILanguages", locale.Name);
                foreach (var user in users)
                    yield return Texts(user, @"Control Panel\Desktop", "PreferredUILanguages", locale.Name);
                break;
            case "system":
                yield return Text("SYSTEM", $@"{control}\Nls\Locale", "", $"0000{locale.Number}");
                yield return Text("SYSTEM", $@"{control}\Nls\Language", "Default", locale.Number);
                if (locale.CodePage > 0)
                {
                    yield return Text("SYSTEM", $@"{control}\Nls\CodePage", "ACP", locale.CodePage.ToString(CultureInfo.InvariantCulture));
                    yield return Text("SYSTEM", $@"{control}\Nls\CodePage", "OEMCP",
                        locale.ConsoleCodePage.ToString(CultureInfo.InvariantCulture));
                }
                break;
            case "user":
                foreach (var user in users)
                {
                    const string International = @"Control Panel\International";
                    yield return Text(user, International, "Locale", $"0000{locale.Number.ToUpperInvariant()}");
                    yield return Text(user, International, "LocaleName", locale.Name);
                    foreach (var format in s_formats)
                        yield return new RegistryEdit(user, International, format, RegistryEditKind.DeleteValue, RegistryType.None, []);
                }
                break;
            default:
                var given = KeyboardForm().Match(keyboard);
                var language = given.Success ? given.Groups[1].Value.ToLowerInvariant() : locale.Number;
                var layout = given.Success ? given.Groups[2].Value.ToLowerInvariant() : locale.Layout;
                foreach (var user in users)
                {
                    yield return Text(user, @"Keyboard Layout\Preload", "1", $"0000{language}");
                    // A layout of another language stands in for the language's own.
                    yield return layout == $"0000{language}"
                        ? new RegistryEdit(user, @"Keyboard Layout\Substitutes", $"0000{language}", RegistryEditKind.DeleteValue,
                        RegistryType.None, [])
                        : Text(user, @"Keyboard Layout\Substitutes", $"0000{language}", layout);
                }
                break;
        }
    }
}
