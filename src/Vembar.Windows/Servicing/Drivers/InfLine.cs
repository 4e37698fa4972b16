namespace Vembar.Windows.Servicing.Drivers;

/// <summary>A line of an INF section, in its parts, with tokens still in it.</summary>
/// <param name="Number">Its line in the file, from 1.</param>
/// <param name="Key">What stands in front of '='; null when there is no '='.</param>
/// <param name="Values">What stands behind, split at commas; without a '=' the whole line.</param>
public sealed record InfLine(int Number, string? Key, IReadOnlyList<string> Values)
{
    /// <summary>A value by its place; empty when there are not so many.</summary>
    public string Value(int index) => index < Values.Count ? Values[index] : "";

    /// <summary>Whether it is a line of a keyword.</summary>
    public bool Is(string keyword) => keyword.Equals(Key, StringComparison.OrdinalIgnoreCase);

    /// <summary>Whether it is a word that stands alone, as "Reboot" does.</summary>
    public bool IsWord(string word) => Key is null && Values is [var only] && word.Equals(only, StringComparison.OrdinalIgnoreCase);
}
