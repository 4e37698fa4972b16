namespace Vembar.Common.Formats;

/// <summary>Names with '*' for any characters and '?' for one; compared without case.</summary>
internal static class Wildcard
{
    /// <summary>Whether a pattern matches all of a text.</summary>
    public static bool Matches(string pattern, string text) =>
        System.IO.Enumeration.FileSystemName.MatchesSimpleExpression(pattern.Replace("\\", "\\\\", StringComparison.Ordinal), text,
            ignoreCase: true);
}
