namespace Vembar.Common;

/// <summary>How far a mistyped name is from another.</summary>
public static class EditDistance
{
    /// <summary>The number of letters to insert, remove or exchange, without regard to case.</summary>
    /// <remarks>Source: Levenshtein, "Binary codes capable of correcting deletions, insertions and reversals" (1966).</remarks>
    public static int Distance(string a, string b)
    {
        var row = Enumerable.Range(0, b.Length + 1).ToArray();
        for (var i = 1; i <= a.Length; i++)
        {
            var diagonal = row[0];
            row[0] = i;
            for (var j = 1; j <= b.Length; j++)
            {
                var cost = char.ToUpperInvariant(a[i - 1]) == char.ToUpperInvariant(b[j - 1]) ? diagonal : diagonal + 1;
                diagonal = row[j];
                row[j] = Math.Min(cost, Math.Min(row[j], row[j - 1]) + 1);
            }
        }
        return row[b.Length];
    }

    /// <summary>The name that was probably meant; null when none is near.</summary>
    /// <param name="word">What was written.</param>
    /// <param name="known">The names that there are.</param>
    public static string? Nearest(string word, IEnumerable<string> known) =>
        known.MinBy(k => Distance(k, word)) is { } near && Distance(near, word) <= Math.Max(2, word.Length / 3) ? near : null;

    /// <summary>The end of a sentence that says what was probably meant, or what there is when that is not much.</summary>
    public static string Hint(string word, IEnumerable<string> known)
    {
        const int MostListed = 24;
        return Nearest(word, known) is { } near ? $"; did you mean '{near}'?"
            : known.Count() is > 0 and <= MostListed ? $"; known are {string.Join(", ", known)}" : "";
    }
}
