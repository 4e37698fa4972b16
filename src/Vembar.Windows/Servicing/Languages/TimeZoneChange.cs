using System.Globalization;
using System.Text;
using Vembar.Common;
using Vembar.Windows.Registry;
using Vembar.Windows.Servicing.Registry;

namespace Vembar.Windows.Servicing.Languages;

/// <summary>Sets the time zone, from what the image itself knows of it.</summary>
/// <param name="name">Windows' name of it: GMT Standard Time.</param>
/// <remarks>SOFTWARE …\Time Zones\NAME holds TZI: bias, standard and daylight bias (4 bytes each), standard and daylight date
/// (SYSTEMTIME). Source: the vendor's "TIME_ZONE_INFORMATION structure".</remarks>
public sealed class TimeZoneChange(string name) : IChange
{
    private const string Zones = @"Microsoft\Windows NT\CurrentVersion\Time Zones";
    private const int DateLength = 16, Length = 12 + 2 * DateLength;

    /// <summary>What Windows calls a time zone of the other naming (Europe/London); null when it is none of these.</summary>
    internal static string? WindowsName(string name) =>
        TimeZoneConverter.TZConvert.TryIanaToWindows(name, out var windows) ? windows : null;

    /// <inheritdoc/>
    public IEnumerable<ChangeOutcome> Apply(ServiceContext context)
    {
        ChangeOutcome Outcome(ChangeStatus status, string why) => new("time-zone", name, status, why);
        if (context.Install is null || context.Hive("SOFTWARE") is not { } software || context.Hive("SYSTEM") is null)
            return [Outcome(ChangeStatus.Refused, "the image holds no Windows")];
        var known = software.Key(Zones)?.Subkeys.Select(k => k.Name).ToList() ?? [];
        if (known.Find(k => k.Equals(name, StringComparison.OrdinalIgnoreCase)) is not { } exact
            || software.Key($@"{Zones}\{exact}") is not { } zone)
        {
            var meant = EditDistance.Nearest(name, known) is { } near ? $"; did you mean '{near}'?" : "";
            return [Outcome(ChangeStatus.Refused, WindowsName(name) is { } windows ? $"Windows calls this time zone "
                + $"'{windows}'{(known.Contains(windows) ? "" : ", which the image does not know")}"
                : $"the image does not know this time "
                + $"zone{meant}")];
        }
        if (zone.Get("TZI") is not (_, { Length: >= Length } tzi))
            return [Outcome(ChangeStatus.Refused, "what the image knows of this time zone is damaged: TZI is missing or too short")];
        var key = $@"{RegistryChange.CurrentSet(context)}\Control\TimeZoneInformation";
        RegistryEdit Set(string value, RegistryType type, byte[] bytes) => new("SYSTEM", key, value, RegistryEditKind.Set, type, bytes);
        byte[] Words(string value) => Encoding.Unicode.GetBytes((zone.GetString($"MUI_{value}") ?? zone.GetString(value) ?? exact) + "\0");
        RegistryEdit[] edits =
        [
            Set("TimeZoneKeyName", RegistryType.String, Encoding.Unicode.GetBytes(exact + "\0")),
            Set("Bias", RegistryType.Dword, tzi[..4]), Set("StandardBias", RegistryType.Dword, tzi[4..8]),
            Set("DaylightBias", RegistryType.Dword, tzi[8..12]),
            Set("StandardStart", RegistryType.Binary, tzi[12..(12 + DateLength)]),
            Set("DaylightStart", RegistryType.Binary, tzi[(12 + DateLength)..Length]),
            Set("StandardName", RegistryType.String, Words("Std")), Set("DaylightName", RegistryType.String, Words("Dlt")),
            Set("DynamicDaylightTimeDisabled", RegistryType.Dword, new byte[4]),
        ];
        var made = RegistryChange.MakeAll(context, edits);
        var minutes = BitConverter.ToInt32(tzi, 0);
        var sign = minutes > 0 ? '-' : '+';
        var offset = minutes == 0 ? "UTC"
            : string.Create(CultureInfo.InvariantCulture, $"UTC{sign}{Math.Abs(minutes) / 60}:{Math.Abs(minutes) % 60:00}");
        return [made > 0
            ? Outcome(ChangeStatus.Done, $"{zone.GetString("Display") ?? exact}, {offset} in winter")
            : Outcome(ChangeStatus.Already, "it is so")];
    }
}
