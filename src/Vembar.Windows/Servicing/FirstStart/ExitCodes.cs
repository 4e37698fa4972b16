using System.Globalization;

namespace Vembar.Windows.Servicing.FirstStart;

/// <summary>Exit codes of a command that count as success.</summary>
internal static class ExitCodes
{
    /// <summary>Reads them, separated by blanks or commas.</summary>
    /// <returns>Null when a word is no number.</returns>
    public static IReadOnlyList<int>? Parse(string? text)
    {
        var codes = new List<int>();
        foreach (var word in (text ?? "0").Split([' ', ','], StringSplitOptions.RemoveEmptyEntries))
        {
            if (!int.TryParse(word, CultureInfo.InvariantCulture, out var code))
                return null;
            codes.Add(code);
        }
        return codes.Count > 0 ? codes : null;
    }
}
