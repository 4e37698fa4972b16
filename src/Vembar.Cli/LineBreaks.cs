using System.Text;

namespace Vembar.Cli;

/// <summary>Breaks texts into lines, between words and nowhere else unless that is asked for.</summary>
internal static class LineBreaks
{
    /// <summary>A piece of a text that stays together.</summary>
    /// <param name="Text">The piece.</param>
    /// <param name="IsApart">Whether a space stands before it.</param>
    public readonly record struct Token(string Text, bool IsApart = true);

    /// <summary>Words.</summary>
    public static IEnumerable<Token> Words(string text) =>
        text.Split(' ', StringSplitOptions.RemoveEmptyEntries).Select(w => new Token(w));

    /// <summary>Words, and the parts of paths with the slash behind them.</summary>
    public static IEnumerable<Token> Parts(string text)
    {
        foreach (var word in text.Split(' ', StringSplitOptions.RemoveEmptyEntries))
        {
            var start = 0;
            for (var at = 1; at < word.Length - 1; at++)
            {
                if (word[at] is not ('/' or '\\'))
                    continue;
                yield return new Token(word[start..(at + 1)], start == 0);
                start = at + 1;
            }
            yield return new Token(word[start..], start == 0);
        }
    }

    /// <summary>Lines of at most so many characters, as far as the pieces let them; none is broken.</summary>
    /// <param name="tokens">The pieces.</param>
    /// <param name="width">How many characters a line has.</param>
    /// <param name="first">What the first line begins with.</param>
    /// <param name="rest">What the others begin with.</param>
    public static IEnumerable<string> Lines(IEnumerable<Token> tokens, int width, string first = "", string rest = "")
    {
        var line = new StringBuilder(first);
        var begun = false;
        foreach (var (text, isApart) in tokens)
        {
            var space = begun && isApart ? 1 : 0;
            if (begun && line.Length + space + text.Length > width)
            {
                yield return line.ToString();
                line.Clear().Append(rest);
                space = 0;
            }
            line.Append(' ', space).Append(text);
            begun = true;
        }
        if (begun)
            yield return line.ToString();
    }

    /// <summary>Prose: what is longer than a line stays whole, so that it can be copied. It keeps the spaces that it begins with.</summary>
    public static IEnumerable<string> Prose(string text, int width)
    {
        var indent = IndentOf(text);
        return text.Length <= width ? [text] : Lines(Words(text), width, indent, indent);
    }

    /// <summary>A cell: paths break behind their slashes, and what is longer than the cell loses its middle.</summary>
    public static IReadOnlyList<string> Cell(string text, int width) => text.Length <= width ? [text]
        : [.. Lines(Parts(text).Select(t => t with { Text = Shorten(t.Text, width) }), width, IndentOf(text))];

    private static string IndentOf(string text) => text[..(text.Length - text.TrimStart(' ').Length)];

    private static string Shorten(string word, int width)
    {
        if (word.Length <= width)
            return word;
        var end = (width - 1) / 2;
        return $"{word[..(width - 1 - end)]}…{word[^end..]}";
    }
}
