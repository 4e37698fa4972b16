using System.Globalization;
using System.Text;
using Vembar.Common;

namespace Vembar.Images.Records;

/// <summary>How versions look that are made: a text with parts of the day and a counter, {year}, {month}, {day}, {week}, {counter}. A
/// number behind a colon is how many digits it has at least.</summary>
public sealed class VersionPattern
{
    private const string Counter = "counter";
    private static readonly string[] s_parts = ["year", "month", "day", "week", Counter];
    private readonly List<(string Text, string Part, int Digits)> _parts = [];

    private VersionPattern(string text) => Text = text;

    /// <summary>What is used where nothing else is said: 2026.10.1, 2026.10.2, ...</summary>
    public static VersionPattern Standard { get; } = Parse("{year}.{month}.{counter}");

    /// <summary>The pattern as it was given.</summary>
    public string Text { get; }

    /// <summary>Reads a pattern.</summary>
    /// <exception cref="VembarException">It makes no sense.</exception>
    public static VersionPattern Parse(string text)
    {
        var pattern = new VersionPattern(text);
        var counters = 0;
        for (var at = 0; at < text.Length;)
        {
            var open = text.IndexOfAny(['{', '}'], at);
            if (open < 0)
            {
                pattern._parts.Add((text[at..], "", 0));
                break;
            }
            var close = text[open] == '}' ? -1 : text.IndexOf('}', open);
            if (close < 0)
                throw Bad(text, $"the brace at {open + 1} has no other");
            var word = text[(open + 1)..close].Split(':', 2);
            var digits = 0;
            if (!s_parts.Contains(word[0]))
                throw Bad(text, $"'{{{word[0]}}}' is not known");
            if (word.Length > 1 && !(int.TryParse(word[1], NumberStyles.None, CultureInfo.InvariantCulture, out digits)
                && digits is > 0 and < 10))
                throw Bad(text, $"'{word[1]}' is no number of digits");
            counters += word[0] == Counter ? 1 : 0;
            pattern._parts.Add((text[at..open], word[0], digits));
            at = close + 1;
        }
        if (counters > 1)
            throw Bad(text, "there is more than one {counter}");
        return string.IsNullOrWhiteSpace(text) ? throw Bad(text, "it is empty") : pattern;
    }

    private static VembarException Bad(string text, string why) => VembarException.Input("bad-version-pattern",
        $"'{text}' is no pattern for versions: {why}",
        "Use {year}, {month}, {day}, {week} and {counter}, as in \"{year}.{month}.{counter}\".");

    /// <summary>The next version.</summary>
    /// <param name="day">The day.</param>
    /// <param name="taken">The versions that the name has.</param>
    /// <returns>One that is not among them.</returns>
    public string Next(DateOnly day, IEnumerable<string> taken)
    {
        var versions = taken.ToHashSet(StringComparer.OrdinalIgnoreCase);
        if (!_parts.Exists(p => p.Part == Counter))
        {
            // A second one of the same day needs something behind it.
            var first = Fill(day, 0);
            var next = first;
            for (var number = 2; versions.Contains(next); number++)
                next = string.Create(CultureInfo.InvariantCulture, $"{first}.{number}");
            return next;
        }
        var (before, behind) = AroundCounter(day);
        var highest = 0L;
        foreach (var version in versions)
        {
            if (version.Length > before.Length + behind.Length && version.StartsWith(before, StringComparison.OrdinalIgnoreCase)
                && version.EndsWith(behind, StringComparison.OrdinalIgnoreCase)
                && long.TryParse(version[before.Length..^behind.Length], NumberStyles.None, CultureInfo.InvariantCulture, out var number)
                && number < long.MaxValue)
                highest = Math.Max(highest, number);
        }
        return Fill(day, highest + 1);
    }

    private (string Before, string Behind) AroundCounter(DateOnly day)
    {
        const string Mark = "\0";
        var parts = Fill(day, 0, Mark).Split(Mark);
        return (parts[0], parts[1]);
    }

    private string Fill(DateOnly day, long counter, string? mark = null)
    {
        var text = new StringBuilder();
        foreach (var (before, part, digits) in _parts)
        {
            text.Append(before);
            text.Append(part switch
            {
                "year" => Number(day.Year, Math.Max(digits, 4)),
                "month" => Number(day.Month, Math.Max(digits, 2)),
                "day" => Number(day.Day, Math.Max(digits, 2)),
                "week" => Number(ISOWeek.GetWeekOfYear(day), Math.Max(digits, 2)),
                Counter => mark ?? Number(counter, digits),
                _ => "",
            });
        }
        return text.ToString();
    }

    private static string Number(long value, int digits) => value.ToString($"D{digits}", CultureInfo.InvariantCulture);
}
