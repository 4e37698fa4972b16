using System.Globalization;

namespace Vembar.Operations.Waves;

/// <summary>How fast bits go, as people write it: "300 Mbit/s".</summary>
public static class BitRate
{
    /// <summary>The least and the most that makes sense, in bits a second.</summary>
    public const long Least = 1_000_000, Most = 100_000_000_000;

    private static readonly (string Unit, double Bits)[] s_units = [("Gbit/s", 1e9), ("Mbit/s", 1e6), ("kbit/s", 1e3)];

    /// <summary>Reads one.</summary>
    /// <param name="text">The text: a number with its unit.</param>
    /// <param name="rate">Bits a second.</param>
    /// <returns>False where it is none, or makes no sense.</returns>
    public static bool TryParse(string text, out long rate)
    {
        rate = 0;
        foreach (var (unit, bits) in s_units)
        {
            if (!text.EndsWith(unit, StringComparison.OrdinalIgnoreCase)
                || !double.TryParse(text[..^unit.Length].Trim(), NumberStyles.AllowDecimalPoint, CultureInfo.InvariantCulture,
                    out var number))
                continue;
            rate = (long)Math.Clamp(number * bits, 0, 2d * Most);
            return rate is >= Least and <= Most;
        }
        return false;
    }

    /// <summary>Writes one.</summary>
    public static string Write(long rate)
    {
        var (unit, bits) = s_units.First(u => rate >= u.Bits || u.Bits <= 1e3);
        return string.Create(CultureInfo.InvariantCulture, $"{rate / bits:0.##} {unit}");
    }
}
