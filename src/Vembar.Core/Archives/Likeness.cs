namespace Vembar.Core.Archives;

/// <summary>How far a mistyped name is from another.</summary>
public static class Likeness
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
}
