using System.Globalization;

namespace Vembar.Common.Formats;

/// <summary>Times in YAML files: "30 s", "10 min", "3 h".</summary>
public static class YamlTime
{
    private static readonly (string Unit, int Seconds)[] s_units = [("min", 60), ("h", 3600), ("s", 1)];

    /// <summary>Reads one, of 1 second to a day.</summary>
    public static bool TryParse(string text, out TimeSpan time)
    {
        const int Longest = 24 * 60 * 60;
        time = default;
        var (unit, seconds) = s_units.FirstOrDefault(u => text.EndsWith(u.Unit, StringComparison.Ordinal));
        if (unit is null || !int.TryParse(text[..^unit.Length].Trim(), NumberStyles.None, CultureInfo.InvariantCulture, out var number)
            || number < 1 || number > Longest / seconds)
            return false;
        time = TimeSpan.FromSeconds((long)number * seconds);
        return true;
    }
}
