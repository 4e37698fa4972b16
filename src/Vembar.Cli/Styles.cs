namespace Vembar.Cli;

/// <summary>Colours by meaning, beside words that say the same: what stands in the way is red, what should be looked at yellow,
/// what is done green. The codes are those of ECMA-48.</summary>
internal static class Styles
{
    private const string Bold = "\u001b[1m", Red = "\u001b[31m", Yellow = "\u001b[33m", Green = "\u001b[32m", Normal = "\u001b[0m";

    private static readonly Dictionary<string, string> s_meanings = new(StringComparer.OrdinalIgnoreCase)
    {
        ["refused"] = Red,
        ["stop"] = Red,
        ["none"] = Red,
        ["failed"] = Red,
        ["damaged"] = Red,
        ["missing"] = Red,
        ["error"] = Red,
        ["not as expected"] = Red,
        ["would be refused"] = Red,
        ["needed for starting"] = Red,
        ["warn"] = Yellow,
        ["warning"] = Yellow,
        ["skipped"] = Yellow,
        ["untrusted"] = Yellow,
        ["unsigned"] = Yellow,
        ["stopped"] = Yellow,
        ["partly"] = Yellow,
        ["held"] = Yellow,
        ["retired"] = Yellow,
        ["done"] = Green,
        ["ready"] = Green,
        ["checked"] = Green,
        ["reused"] = Green,
        ["as expected"] = Green,
        ["would be done"] = Green,
        ["trusted"] = Green,
    };

    /// <summary>A heading.</summary>
    public static string Heading(string text) => $"{Bold}{text}{Normal}";

    /// <summary>A word that says how something stands, in the colour of that; any other text as it is.</summary>
    /// <param name="text">The word, or a line of it.</param>
    /// <param name="whole">All of it; null where that is the text.</param>
    public static string ByMeaning(string text, string? whole = null) =>
        s_meanings.TryGetValue((whole ?? text).Trim(), out var colour) ? $"{colour}{text}{Normal}" : text;

    /// <summary>A line that says how it went.</summary>
    public static string Verdict(string text, bool good) => $"{(good ? Green : Red)}{text}{Normal}";
}
