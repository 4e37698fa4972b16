using System.Globalization;
using System.Text;
using System.Text.RegularExpressions;
using Vembar.Core.Archives;
using Vembar.Core.Servicing.Registry;
using Vembar.Core.Windows;

namespace Vembar.Core.Servicing.Languages;

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
        "iCalendarType", "iCountry", "iCurrDigits", "iCurrency", "iDate", "iDigits", "iFirstDayOfWeek", "iFirstWeekOfYear", "iLZero", "iMeasure", "iNegCurr", "iNegNumber", "iPaperSize", "iTime", "iTimePrefix", "iTLZero",
        "NumShape", "s1159", "s2359", "sCountry", "sCurrency", "sDate", "sDecimal", "sGrouping", "sLanguage", "sList", "sLongDate", "sMonDecimalSep", "sMonGrouping", "sMonThousandSep", "sNativeDigits", "sNegativeSign",
        "sPositiveSign", "sShortDate", "sShortTime", "sThousand", "sTime", "sTimeFormat", "sYearMonth",
    ];

    [GeneratedRegex("^([0-9A-Fa-f]{4}):([0-9A-Fa-f]{8})$")]
    private static partial Regex KeyboardForm();

    /// <inheritdoc/>
    public IEnumerable<ChangeOutcome> Apply(ServiceContext context)
    {
        var wanted = parts.Count > 0 ? parts : Parts;
        ChangeOutcome Outcome(ChangeStatus status, string why) => new("locale", parts.Count > 0 ? $"{name} ({string.Join(", ", parts)})" : name, status, why);
        if (context.Install is null || context.Hive("SYSTEM") is not { } system)
            return [Outcome(ChangeStatus.Refused, "the image holds no Windows")];
        if (wanted.FirstOrDefault(p => !Parts.Contains(p)) is { } unknown)
            return [Outcome(ChangeStatus.Refused, $"'{unknown}' is not a part of it; {string.Join(", ", Parts)} are")];
        if (KnownLocale.Named(name) is not { } locale)
            return [Outcome(ChangeStatus.Refused, $"'{name}' is not a locale that is known here{Likeness.Hint(name, KnownLocale.Names)}")];
        if (keyboard.Length > 0 && !KeyboardForm().IsMatch(keyboard))
            return [Outcome(ChangeStatus.Refused, $"'{keyboard}' is not a keyboard: 0809:00000809 is one")];
        // What another change of the same order brought counts.
        var languages = WindowsInstall.ReadLanguages(system);
        bool Speaks(string language) => languages.Contains(language, StringComparer.OrdinalIgnoreCase);
        if (wanted.Contains("display") && !Speaks(locale.Name))
            return [Outcome(ChangeStatus.Refused, $"the image does not have the language {locale.Name}; it has {string.Join(", ", languages)}; a language package brings it")];
        if (!languages.Any(l => l.Split('-')[0].Equals(locale.Name.Split('-')[0], StringComparison.OrdinalIgnoreCase)))
            return [Outcome(ChangeStatus.Refused, $"the image does not have the language of {locale.Name}; it has {string.Join(", ", languages)}; a language package brings it")];
        var edits = new List<RegistryEdit>();
        var control = $@"{RegistryChange.CurrentSet(context)}\Control";
        foreach (var part in wanted)
            edits.AddRange(Edits(part, locale, control));
        if (edits.FirstOrDefault(e => context.Hive(e.Root) is null) is { } lacking)
            return [Outcome(ChangeStatus.Refused, $"the image has no hive {lacking.Root}")];
        var made = RegistryChange.MakeAll(context, edits);
        return [made > 0 ? Outcome(ChangeStatus.Done, $"{string.Join(", ", wanted)}: {locale.Name}{(wanted.Contains("system") && locale.CodePage > 0 ? string.Create(CultureInfo.InvariantCulture, $"; code pages {locale.CodePage} and {locale.ConsoleCodePage}") : "")}")
            : Outcome(ChangeStatus.Already, "it is so")];
    }

    private IEnumerable<RegistryEdit> Edits(string part, KnownLocale locale, string control)
    {
        static RegistryEdit Text(string hive, string key, string value, string text) => new(hive, key, value, RegistryEditKind.Set, RegistryType.String, Encoding.Unicode.GetBytes(text + "\0"));
        static RegistryEdit Texts(string hive, string key, string value, string text) => new(hive, key, value, RegistryEditKind.Set, RegistryType.MultiString, Encoding.Unicode.GetBytes(text + "\0\0"));
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
                    yield return Text("SYSTEM", $@"{control}\Nls\CodePage", "OEMCP", locale.ConsoleCodePage.ToString(CultureInfo.InvariantCulture));
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
                        ? new RegistryEdit(user, @"Keyboard Layout\Substitutes", $"0000{language}", RegistryEditKind.DeleteValue, RegistryType.None, [])
                        : Text(user, @"Keyboard Layout\Substitutes", $"0000{language}", layout);
                }
                break;
        }
    }
}

/// <summary>Sets the time zone, from what the image itself knows of it.</summary>
/// <param name="name">Windows' name of it: GMT Standard Time.</param>
/// <remarks>SOFTWARE …\Time Zones\NAME holds TZI: bias, standard and daylight bias (4 bytes each), standard and daylight date (SYSTEMTIME). Source: the vendor's "TIME_ZONE_INFORMATION structure".</remarks>
public sealed class TimeZoneChange(string name) : IChange
{
    private const string Zones = @"Microsoft\Windows NT\CurrentVersion\Time Zones";
    private const int DateLength = 16, Length = 12 + 2 * DateLength;

    /// <summary>What Windows calls a time zone of the other naming (Europe/London); null when it is none of these.</summary>
    internal static string? WindowsName(string name) => TimeZoneConverter.TZConvert.TryIanaToWindows(name, out var windows) ? windows : null;

    /// <inheritdoc/>
    public IEnumerable<ChangeOutcome> Apply(ServiceContext context)
    {
        ChangeOutcome Outcome(ChangeStatus status, string why) => new("time-zone", name, status, why);
        if (context.Install is null || context.Hive("SOFTWARE") is not { } software || context.Hive("SYSTEM") is null)
            return [Outcome(ChangeStatus.Refused, "the image holds no Windows")];
        var known = software.Key(Zones)?.Subkeys.Select(k => k.Name).ToList() ?? [];
        if (known.Find(k => k.Equals(name, StringComparison.OrdinalIgnoreCase)) is not { } exact || software.Key($@"{Zones}\{exact}") is not { } zone)
        {
            return [Outcome(ChangeStatus.Refused, WindowsName(name) is { } windows ? $"Windows calls this time zone '{windows}'{(known.Contains(windows) ? "" : ", which the image does not know")}" : $"the image does not know this time zone{(Likeness.Nearest(name, known) is { } near ? $"; did you mean '{near}'?" : "")}")];
        }
        if (zone.Get("TZI") is not (_, { Length: >= Length } tzi))
            return [Outcome(ChangeStatus.Refused, "what the image knows of this time zone is damaged: TZI is missing or too short")];
        var key = $@"{RegistryChange.CurrentSet(context)}\Control\TimeZoneInformation";
        RegistryEdit Set(string value, RegistryType type, byte[] bytes) => new("SYSTEM", key, value, RegistryEditKind.Set, type, bytes);
        byte[] Words(string value) => Encoding.Unicode.GetBytes((zone.GetString($"MUI_{value}") ?? zone.GetString(value) ?? exact) + "\0");
        RegistryEdit[] edits =
        [
            Set("TimeZoneKeyName", RegistryType.String, Encoding.Unicode.GetBytes(exact + "\0")),
            Set("Bias", RegistryType.Dword, tzi[..4]), Set("StandardBias", RegistryType.Dword, tzi[4..8]), Set("DaylightBias", RegistryType.Dword, tzi[8..12]),
            Set("StandardStart", RegistryType.Binary, tzi[12..(12 + DateLength)]), Set("DaylightStart", RegistryType.Binary, tzi[(12 + DateLength)..Length]),
            Set("StandardName", RegistryType.String, Words("Std")), Set("DaylightName", RegistryType.String, Words("Dlt")),
            Set("DynamicDaylightTimeDisabled", RegistryType.Dword, new byte[4]),
        ];
        var made = RegistryChange.MakeAll(context, edits);
        var minutes = BitConverter.ToInt32(tzi, 0);
        return [made > 0 ? Outcome(ChangeStatus.Done, $"{zone.GetString("Display") ?? exact}, {(minutes == 0 ? "UTC" : string.Create(CultureInfo.InvariantCulture, $"UTC{(minutes > 0 ? '-' : '+')}{Math.Abs(minutes) / 60}:{Math.Abs(minutes) % 60:00}"))} in winter") : Outcome(ChangeStatus.Already, "it is so")];
    }
}
