using System.Globalization;
using Vembar.Common;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Windows.Install;
using Vembar.Windows.Registry;

namespace Vembar.Windows.Servicing.Languages;

/// <summary>The languages of an install, and what its settings are; empty where the registry does not say.</summary>
/// <param name="Languages">Display languages that are there.</param>
/// <param name="Display">The one that is shown.</param>
/// <param name="System">The locale of programs without Unicode.</param>
/// <param name="User">What new users' formats are those of.</param>
/// <param name="Keyboard">What new users type on ("0809:00000809").</param>
/// <param name="TimeZone">The time zone by Windows' name.</param>
public sealed record LocaleSettings(IReadOnlyList<string> Languages, string Display, string System, string User, string Keyboard,
    string TimeZone)
{
    /// <summary>Reads them.</summary>
    /// <param name="files">The install.</param>
    /// <param name="system">Its SYSTEM hive.</param>
    /// <exception cref="VembarException">A hive is damaged.</exception>
    public static LocaleSettings Read(IReadOnlyTree files, RegistryHive system)
    {
        var path = WindowsPath.Parse(ServiceContext.NewUsersPath);
        return Read(system, files.ReadFile(path, RegistryHive.Longest) is { } bytes
            ? RegistryHive.Open(bytes, write: false, $"{files.DisplayName}: '{path}'") : null);
    }

    /// <summary>Reads them from hives that are open.</summary>
    /// <param name="system">The SYSTEM hive.</param>
    /// <param name="users">The hive that new users' settings come from; may be null.</param>
    internal static LocaleSettings Read(RegistryHive system, RegistryHive? users)
    {
        var control = WindowsInstall.ControlSet(system)?.Key("Control");
        var languages = WindowsInstall.ReadLanguages(system);
        var preload = users?.Key(@"Keyboard Layout\Preload")?.GetString("1") ?? "";
        var layout = users?.Key(@"Keyboard Layout\Substitutes")?.GetString(preload) ?? preload;
        return new LocaleSettings(
            languages,
            control?.Key(@"MUI\Settings")?.GetStrings("PreferredUILanguages") is [var first, ..] ? first
            : NameOf(control?.Key(@"Nls\Language")?.GetString("InstallLanguage")),
            NameOf(control?.Key(@"Nls\Language")?.GetString("Default")),
            users?.Key(@"Control Panel\International")?.GetString("LocaleName") ?? "",
            preload.Length == 8 ? $"{preload[4..]}:{layout}" : "",
            control?.Key("TimeZoneInformation")?.GetString("TimeZoneKeyName") ?? "");
    }

    private static string NameOf(string? number) =>
        !ushort.TryParse(number, NumberStyles.HexNumber, CultureInfo.InvariantCulture, out var id) ? ""
        : KnownLocale.Names.Select(n => KnownLocale.Named(n)!).FirstOrDefault(l => l.Id == id)?.Name ?? number;
}
