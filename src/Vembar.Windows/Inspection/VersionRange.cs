using System.Text.RegularExpressions;

namespace Vembar.Windows.Inspection;

/// <summary>Versions that are meant: "7.4", "7.*", ">= 7.4", ">= 7.4, &lt; 8".</summary>
public sealed partial class VersionRange
{
    private readonly List<(string Operator, long[] Numbers, bool IsPrefix)> _parts = [];

    private VersionRange(string text) => Text = text;

    /// <summary>As it was written.</summary>
    public string Text { get; }

    /// <summary>Reads a range; null when it is none.</summary>
    public static VersionRange? Parse(string text)
    {
        var range = new VersionRange(text);
        var rest = text.Trim();
        while (rest.Length > 0)
        {
            var match = Part().Match(rest);
            if (!match.Success || Numbers(match.Groups[2].Value) is not { } numbers)
                return null;
            var isPrefix = match.Groups[3].Success;
            if (isPrefix && match.Groups[1].Length > 0)
                return null;
            range._parts.Add((match.Groups[1].Value, numbers, isPrefix));
            rest = rest[match.Length..].TrimStart(' ', ',');
        }
        return range._parts.Count > 0 ? range : null;
    }

    [GeneratedRegex(@"^(>=|<=|>|<|=|)\s*(\d+(?:[.,-]\d+)*?)(\.\*)?(?=$|[ ,]|\s*[<>=])")]
    private static partial Regex Part();

    [GeneratedRegex(@"^\s*[vV]?(\d+(?:[.-]\d+)*)")]
    private static partial Regex Leading();

    private static long[]? Numbers(string text)
    {
        const int MostParts = 8;
        var words = text.Split('.', '-');
        var numbers = new long[words.Length];
        for (var i = 0; i < words.Length; i++)
        {
            if (!long.TryParse(words[i], System.Globalization.NumberStyles.None, System.Globalization.CultureInfo.InvariantCulture,
                out numbers[i]))
                return null;
        }
        return words.Length <= MostParts ? numbers : null;
    }

    /// <summary>Whether a version is meant; one that does not begin with a number is not.</summary>
    public bool Holds(string version) =>
        Leading().Match(version) is { Success: true } match && Numbers(match.Groups[1].Value) is { } numbers
        && _parts.All(p => Meets(numbers, p));

    private static bool Meets(long[] numbers, (string Operator, long[] Numbers, bool IsPrefix) part)
    {
        if (part.IsPrefix)
            return numbers.AsSpan().StartsWith(part.Numbers);
        var order = Compare(numbers, part.Numbers);
        return part.Operator switch
        {
            ">=" => order >= 0,
            "<=" => order <= 0,
            ">" => order > 0,
            "<" => order < 0,
            _ => order == 0,
        };
    }

    // What is not said is zero.
    private static int Compare(long[] a, long[] b)
    {
        for (var i = 0; i < Math.Max(a.Length, b.Length); i++)
        {
            if ((i < a.Length ? a[i] : 0).CompareTo(i < b.Length ? b[i] : 0) is not 0 and var order)
                return order;
        }
        return 0;
    }
}
