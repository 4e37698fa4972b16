using System.Globalization;

namespace Vembar.Common.Formats;

/// <summary>Sizes as people write them.</summary>
public static class ByteSize
{
    private static readonly string[] s_units = ["bytes", "KiB", "MiB", "GiB", "TiB", "PiB"];

    /// <summary>A size in binary units with one decimal; bytes as they are.</summary>
    public static string Show(long bytes)
    {
        double value = bytes;
        var unit = 0;
        while (Math.Abs(value) >= 1024 && unit < s_units.Length - 1)
        {
            value /= 1024;
            unit++;
        }
        return unit == 0 ? string.Create(CultureInfo.InvariantCulture, $"{bytes} bytes")
            : string.Create(CultureInfo.InvariantCulture, $"{value:0.0} {s_units[unit]}");
    }

    /// <summary>Reads "600 MiB", "40G", "1048576": binary units, with or without "iB" or "B".</summary>
    public static bool TryParse(string text, out long bytes)
    {
        bytes = 0;
        var digits = text.TrimEnd();
        var unit = digits.AsSpan().TrimStart("0123456789.").Trim().ToString().ToUpperInvariant();
        if (!double.TryParse(digits.AsSpan(0, digits.Length - digits.AsSpan().TrimStart("0123456789.").Length),
            NumberStyles.AllowDecimalPoint, CultureInfo.InvariantCulture, out var number))
            return false;
        double? factor = unit.Replace("IB", "", StringComparison.Ordinal).TrimEnd('B') switch
        {
            "" => 1,
            "K" => 1L << 10,
            "M" =>
            1L << 20,
            "G" => 1L << 30,
            "T" => 1L << 40,
            _ => null
        };
        if (factor is null || number * factor.Value is not (> 0 and < long.MaxValue / 2))
            return false;
        bytes = (long)(number * factor.Value);
        return true;
    }
}
