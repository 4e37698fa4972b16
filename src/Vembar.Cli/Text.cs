using System.Buffers;
using System.Globalization;
using System.Text;
using Vembar.Common.Formats;
using Vembar.Images.Records;

namespace Vembar.Cli;

/// <summary>How numbers, sizes, times and names look to people.</summary>
internal static class Text
{
    /// <summary>A size in binary units with one decimal.</summary>
    public static string Size(long bytes) => ByteSize.Show(bytes);

    /// <summary>A whole number with separators.</summary>
    public static string Number(long value) => value.ToString("#,0", CultureInfo.InvariantCulture);

    /// <summary>How long something took, behind a semicolon; nothing where that is not worth a word.</summary>
    public static string Took(double seconds) => seconds < 0.05 ? "" : $"; took {Duration(seconds)}";

    /// <summary>Seconds, or minutes and hours when they are many.</summary>
    public static string Duration(double seconds) => seconds switch
    {
        < 60 => string.Create(CultureInfo.InvariantCulture, $"{seconds:0.0} s"),
        < 3600 => string.Create(CultureInfo.InvariantCulture, $"{(int)seconds / 60}:{(int)seconds % 60:00} min"),
        _ => string.Create(CultureInfo.InvariantCulture, $"{(int)seconds / 3600}:{(int)seconds / 60 % 60:00}:{(int)seconds % 60:00} h"),
    };

    /// <summary>A moment in local time, to the minute, with how far that is from UTC (RFC 3339).</summary>
    public static string Time(DateTime utc) => Local(utc, "yyyy-MM-dd HH:mm");

    /// <summary>The same, to the second.</summary>
    public static string ExactTime(DateTime utc) => Local(utc, "yyyy-MM-dd HH:mm:ss");

    private static string Local(DateTime utc, string format)
    {
        var local = new DateTimeOffset(utc.ToUniversalTime()).ToLocalTime();
        return local.ToString(local.Offset == TimeSpan.Zero ? $"{format}'Z'" : $"{format}zzz", CultureInfo.InvariantCulture);
    }

    /// <summary>A count with its word.</summary>
    public static string Count(long count, string one, string? many = null) => $"{Number(count)} {(count == 1 ? one : many ?? one + "s")}";

    /// <summary>A text as a terminal may get it: what would steer the terminal is shown as its code.</summary>
    public static string Safe(string text)
    {
        if (!text.AsSpan().ContainsAny(s_unsafe))
            return text;
        var safe = new StringBuilder(text.Length + 8);
        foreach (var c in text)
        {
            if (s_unsafe.Contains(c))
                safe.Append(CultureInfo.InvariantCulture, $"\\u{(int)c:x4}");
            else
                safe.Append(c);
        }
        return safe.ToString();
    }

    // Control characters, and marks that turn the writing direction.
    private static readonly SearchValues<char> s_unsafe = SearchValues.Create([.. Enumerable.Range(0, 0x2070).Select(c => (char)c)
        .Where(c => char.IsControl(c) || c is >= '\u202A' and <= '\u202E' or >= '\u2066' and <= '\u2069')]);

    /// <summary>How many files are compacted, and what that saves.</summary>
    public static string Compacted(CompactedCount count) =>
        $"{Count(count.Files, "file")} of {Size(count.Bytes)} {(count.Files == 1 ? "is" : "are")} kept compacted in "
        + $"{Size(count.Stored)}, which saves {Size(Math.Max(0, count.Bytes - count.Stored))}";
}
