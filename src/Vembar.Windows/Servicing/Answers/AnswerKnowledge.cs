using System.Text.RegularExpressions;
using Vembar.Common;

namespace Vembar.Windows.Servicing.Answers;

/// <summary>What is known of the common components of answer files: in which passes they work, and which settings they have in
/// which.</summary>
/// <remarks>Source: the vendor's "Unattended Windows Setup Reference".</remarks>
internal static partial class AnswerKnowledge
{
    private static readonly string[] s_setUp = ["specialize", "auditSystem", "auditUser", "oobeSystem"];

    /// <summary>Components, with their settings; a setting without passes works in all of its component's.</summary>
    public static IReadOnlyDictionary<string, Component> Components { get; } =
        new Dictionary<string, Component>(StringComparer.OrdinalIgnoreCase)
        {
            ["Microsoft-Windows-Shell-Setup"] = new(["offlineServicing", "generalize", .. s_setUp], new()
            {
                ["ComputerName"] = ["specialize", "offlineServicing"],
                ["ProductKey"] = ["specialize"],
                ["CopyProfile"] = ["specialize"],
                ["OEMInformation"] = ["specialize"],
                ["OEMName"] = ["specialize"],
                ["AutoLogon"] = ["specialize", "auditSystem", "oobeSystem"],
                ["UserAccounts"] = ["auditSystem", "oobeSystem"],
                ["OOBE"] = ["oobeSystem"],
                ["FirstLogonCommands"] = ["oobeSystem"],
                ["LogonCommands"] = ["oobeSystem"],
                ["TimeZone"] = s_setUp,
                ["RegisteredOwner"] = s_setUp,
                ["RegisteredOrganization"] = s_setUp,
                ["Display"] = s_setUp,
                ["DisableAutoDaylightTimeSet"] = s_setUp,
                ["BluetoothTaskbarIconEnabled"] = s_setUp,
                ["DesktopOptimization"] = s_setUp,
                ["WindowsFeatures"] = s_setUp,
                ["Themes"] = s_setUp,
                ["FolderLocations"] = ["oobeSystem"],
                ["StartTiles"] = s_setUp,
                ["TaskbarLinks"] = s_setUp,
                ["VisualEffects"] = ["oobeSystem", "specialize"],
                ["NotificationArea"] = s_setUp,
                ["ShowWindowsLive"] = s_setUp,
                ["StartPanelOff"] = s_setUp,
                ["ConvertibleSlateModePromptPreference"] = s_setUp,
                ["SignInMode"] = s_setUp,
                ["ShowPowerButtonOnStartScreen"] = s_setUp,
            }),
            ["Microsoft-Windows-International-Core"] =
        new(["specialize", "oobeSystem"], Plain("InputLocale", "SystemLocale", "UILanguage", "UILanguageFallback", "UserLocale")),
            ["Microsoft-Windows-International-Core-WinPE"] =
        new(["windowsPE"],
        Plain("InputLocale", "LayeredDriver", "SetupUILanguage", "SystemLocale", "UILanguage", "UILanguageFallback", "UserLocale")),
            ["Microsoft-Windows-Setup"] =
        new(["windowsPE"], Plain("ComplianceCheck", "Diagnostics", "DiskConfiguration", "Display", "DynamicUpdate", "EnableFirewall",
        "EnableNetwork", "ImageInstall", "LogPath", "PageFile", "Restart", "RunAsynchronous", "RunSynchronous", "UpgradeData",
        "UseConfigurationSet", "UserData", "WindowsDeploymentServices")),
            ["Microsoft-Windows-UnattendedJoin"] = new(["specialize", "offlineServicing"], new()
            {
                ["Identification"] = ["specialize"],
                ["OfflineIdentification"] = ["offlineServicing"],
            }),
            ["Microsoft-Windows-Deployment"] = new(["generalize", "specialize", "auditSystem", "auditUser", "oobeSystem"], new()
            {
                ["RunSynchronous"] = ["specialize", "auditUser"],
                ["RunAsynchronous"] = ["specialize", "auditUser"],
                ["Reseal"] = ["auditSystem", "auditUser", "oobeSystem"],
                ["ExtendOSPartition"] = ["specialize"],
                ["Generalize"] = ["generalize"],
                ["AutoLogon"] = [],
            }),
            ["Microsoft-Windows-PnpSysprep"] = new(["generalize"], Plain("DoNotCleanUpNonPresentDevices", "PersistAllDeviceInstalls")),
            ["Microsoft-Windows-PnpCustomizationsNonWinPE"] = new(["offlineServicing", "auditSystem"], Plain("DriverPaths")),
            ["Microsoft-Windows-PnpCustomizationsWinPE"] = new(["windowsPE"], Plain("DriverPaths")),
            ["Microsoft-Windows-Security-SPP"] = new(["generalize"], Plain("SkipRearm")),
            ["Microsoft-Windows-Security-SPP-UX"] = new(["specialize"], Plain("SkipAutoActivation")),
            ["Microsoft-Windows-LUA-Settings"] = new(["offlineServicing"], Plain("EnableLUA")),
            ["Microsoft-Windows-TerminalServices-LocalSessionManager"] =
        new(["offlineServicing", "generalize", "specialize"], Plain("fDenyTSConnections")),
            ["Microsoft-Windows-TCPIP"] = new(["windowsPE", "specialize"], Plain("IcmpRedirectsEnabled", "Interfaces")),
            ["Microsoft-Windows-DNS-Client"] =
        new(["windowsPE", "specialize"], Plain("DNSDomain", "DNSSuffixSearchOrder", "Interfaces", "UseDomainNameDevolution")),
        };

    /// <summary>A component.</summary>
    /// <param name="Passes">The passes in which it works.</param>
    /// <param name="Settings">Its settings, each with the passes in which it works; none means all of them.</param>
    public sealed record Component(IReadOnlyList<string> Passes, Dictionary<string, string[]> Settings);

    private static Dictionary<string, string[]> Plain(params string[] names) => names.ToDictionary(n => n, _ => Array.Empty<string>());

    private static string NearestZone(string value) =>
        s_zones.MinBy(z => EditDistance.Distance(z, value)) is { } near && EditDistance.Distance(near, value) <= value.Length / 2
            ? $"; did you mean '{near}'?" : "";

    /// <summary>Why a setting's text cannot be its value; null when it can, or is not known.</summary>
    public static string? ValueProblem(string name, string value) => name switch
    {
        "TimeZone" => s_zones.Contains(value) || value.Contains("{{", StringComparison.Ordinal) ? null
            : $"'{value}' is not among the time zones that are known here{NearestZone(value)}",
        "UILanguage" or "SystemLocale" or "UserLocale" or "UILanguageFallback" =>
            LocaleForm().IsMatch(value) ? null : $"'{value}' is not a locale: en-GB is one",
        "InputLocale" => value.Split(';').All(v => LocaleForm().IsMatch(v) || KeyboardForm().IsMatch(v)) ? null
            : $"'{value}' is not an input locale: en-GB and 0809:00000809 are, several with ';' between them",
        "ProductKey" or "Key" => value.Length == 0 || KeyForm().IsMatch(value) ? null
            : "a product key is five groups of five letters and digits with '-' between them",
        "IpAddress" or "NextHopAddress" or "Prefix" or "DefaultGateway" =>
            IsAddress(value) ? null : $"'{value}' is not an address: 10.20.0.5, 10.20.0.5/24 and fd00::5/64 are",
        "CommandLine" when value.Length > LongestCommand =>
            $"the command has {value.Length} characters; Windows takes up to {LongestCommand}",
        "Path" when value.Length > LongestPath => $"the command or path has {value.Length} characters; Windows takes up to {LongestPath}",
        "HorizontalResolution" or "VerticalResolution" or "ColorDepth" or "RefreshRate" or "Order" or "PartitionID" or "DiskID" or "Size"
            or "LogonCount" or "ProtectYourPC" =>
            uint.TryParse(value, System.Globalization.CultureInfo.InvariantCulture, out _) ? null : $"'{name}' is a number, not '{value}'",
        "HideEULAPage" or "HideOnlineAccountScreens" or "HideWirelessSetupInOOBE" or "HideLocalAccountScreen"
            or "HideOEMRegistrationScreen" or "SkipMachineOOBE" or "SkipUserOOBE" or "CopyProfile" or "WillWipeDisk" or "Extend"
            or "AcceptEula" or "PlainText" or "Enabled" or "EnableLUA" =>
            value is "true" or "false" ? null : $"'{name}' is true or false, not '{value}'",
        _ => null,
    };

    // Commands at the first logon, and those while set-up runs. Source: the vendor's reference of answer file settings.
    private const int LongestCommand = 1024, LongestPath = 259;

    private static bool IsAddress(string value)
    {
        if (value.Contains("{{", StringComparison.Ordinal))
            return true;
        var parts = value.Split('/');
        // Fewer numbers than four are taken for an address by some, and by Windows' set-up not.
        return parts.Length <= 2 && System.Net.IPAddress.TryParse(parts[0], out var address)
            && (parts[0].Contains(':') || parts[0].Count(c => c == '.') == 3)
            && (parts.Length == 1
            || (byte.TryParse(parts[1], System.Globalization.CultureInfo.InvariantCulture, out var bits)
            && bits <= 8 * address.GetAddressBytes().Length));
    }

    /// <summary>Why an account cannot have a name; null when it can.</summary>
    public static string? AccountProblem(string name)
    {
        const int Longest = 20;
        const string Forbidden = "\"/\\[]:;|=,+*?<>";
        if (name.Length > Longest)
            return $"the account's name '{name}' has {name.Length} characters; {Longest} are possible";
        return name.Any(Forbidden.Contains) ? $"the account's name '{name}' has one of {Forbidden} in it"
            : name.Length == 0 ? "an account has no name" : null;
    }

    [GeneratedRegex("^[a-z]{2,3}(-[A-Z][a-z]{3})?(-([A-Z]{2}|[0-9]{3}))?$")]
    private static partial Regex LocaleForm();

    [GeneratedRegex("^[0-9A-Fa-f]{4}:([0-9A-Fa-f]{8}|\\{[0-9A-Fa-f-]{36}\\}\\{[0-9A-Fa-f-]{36}\\})$")]
    private static partial Regex KeyboardForm();

    [GeneratedRegex("^([A-Z0-9]{5}-){4}[A-Z0-9]{5}$")]
    private static partial Regex KeyForm();

    private static readonly HashSet<string> s_zones = new(
        [
            "Dateline Standard Time", "UTC-11", "Aleutian Standard Time", "Hawaiian Standard Time", "Marquesas Standard Time",
            "Alaskan Standard Time", "UTC-09", "Pacific Standard Time (Mexico)", "UTC-08", "Pacific Standard Time",
            "US Mountain Standard Time", "Mountain Standard Time (Mexico)", "Mountain Standard Time", "Yukon Standard Time",
            "Central America Standard Time", "Central Standard Time", "Easter Island Standard Time", "Central Standard Time (Mexico)",
            "Canada Central Standard Time", "SA Pacific Standard Time", "Eastern Standard Time (Mexico)", "Eastern Standard Time",
            "Haiti Standard Time", "Cuba Standard Time", "US Eastern Standard Time", "Turks And Caicos Standard Time",
            "Paraguay Standard Time", "Atlantic Standard Time", "Venezuela Standard Time", "Central Brazilian Standard Time",
            "SA Western Standard Time", "Pacific SA Standard Time", "Newfoundland Standard Time", "Tocantins Standard Time",
            "E. South America Standard Time", "SA Eastern Standard Time", "Argentina Standard Time", "Greenland Standard Time",
            "Montevideo Standard Time", "Magallanes Standard Time", "Saint Pierre Standard Time", "Bahia Standard Time",
            "UTC-02", "Mid-Atlantic Standard Time", "Azores Standard Time", "Cape Verde Standard Time", "UTC", "GMT Standard Time",
            "Greenwich Standard Time", "Sao Tome Standard Time", "Morocco Standard Time", "W. Europe Standard Time",
            "Central Europe Standard Time", "Romance Standard Time", "Central European Standard Time", "W. Central Africa Standard Time",
            "GTB Standard Time", "Middle East Standard Time", "Egypt Standard Time", "E. Europe Standard Time",
            "West Bank Standard Time", "South Africa Standard Time", "FLE Standard Time", "Israel Standard Time",
            "South Sudan Standard Time", "Kaliningrad Standard Time", "Sudan Standard Time", "Libya Standard Time", "Namibia Standard Time",
            "Jordan Standard Time", "Arabic Standard Time", "Syria Standard Time", "Turkey Standard Time", "Arab Standard Time",
            "Belarus Standard Time", "Russian Standard Time", "E. Africa Standard Time", "Volgograd Standard Time",
            "Iran Standard Time", "Arabian Standard Time", "Astrakhan Standard Time", "Azerbaijan Standard Time", "Russia Time Zone 3",
            "Mauritius Standard Time", "Saratov Standard Time", "Georgian Standard Time", "Caucasus Standard Time",
            "Afghanistan Standard Time", "West Asia Standard Time", "Qyzylorda Standard Time", "Ekaterinburg Standard Time",
            "Pakistan Standard Time", "India Standard Time", "Sri Lanka Standard Time", "Nepal Standard Time",
            "Central Asia Standard Time", "Bangladesh Standard Time", "Omsk Standard Time", "Myanmar Standard Time",
            "SE Asia Standard Time", "Altai Standard Time", "W. Mongolia Standard Time", "North Asia Standard Time",
            "N. Central Asia Standard Time", "Tomsk Standard Time", "China Standard Time", "North Asia East Standard Time",
            "Singapore Standard Time", "W. Australia Standard Time", "Taipei Standard Time", "Ulaanbaatar Standard Time",
            "Aus Central W. Standard Time", "Transbaikal Standard Time", "Tokyo Standard Time", "North Korea Standard Time",
            "Korea Standard Time", "Yakutsk Standard Time", "Cen. Australia Standard Time", "AUS Central Standard Time",
            "E. Australia Standard Time", "AUS Eastern Standard Time", "West Pacific Standard Time", "Tasmania Standard Time",
            "Vladivostok Standard Time", "Lord Howe Standard Time", "Bougainville Standard Time", "Russia Time Zone 10",
            "Magadan Standard Time", "Norfolk Standard Time", "Sakhalin Standard Time", "Central Pacific Standard Time",
            "Russia Time Zone 11", "New Zealand Standard Time", "UTC+12", "Fiji Standard Time", "Kamchatka Standard Time",
            "Chatham Islands Standard Time", "UTC+13", "Tonga Standard Time", "Samoa Standard Time", "Line Islands Standard Time",
        ],
        StringComparer.OrdinalIgnoreCase);
}
