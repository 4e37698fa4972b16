using System.Text.RegularExpressions;

namespace Vembar.Windows.Servicing;

/// <summary>Names of packages, features, services and rules.</summary>
internal static partial class ServicingName
{
    private const int Longest = 100;

    /// <summary>Whether a text is one.</summary>
    public static bool IsOne(string text) => text.Length <= Longest && Pattern().IsMatch(text);

    [GeneratedRegex("^[A-Za-z0-9][A-Za-z0-9._-]*$")]
    private static partial Regex Pattern();
}
