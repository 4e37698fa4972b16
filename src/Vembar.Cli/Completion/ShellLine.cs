using System.Text;

namespace Vembar.Cli.Completion;

/// <summary>A command line up to the cursor, in words as a shell divides it (POSIX, Shell Command Language, 2.2): quotes and
/// backslashes are taken away.</summary>
internal sealed class ShellLine
{
    private ShellLine(IReadOnlyList<string> words, string word, string raw, char quote)
    {
        Words = words;
        Word = word;
        Raw = raw;
        Quote = quote;
    }

    /// <summary>The words before that at the cursor, the program's name first.</summary>
    public IReadOnlyList<string> Words { get; }

    /// <summary>The word at the cursor, as far as it is there.</summary>
    public string Word { get; }

    /// <summary>The same as it was typed.</summary>
    public string Raw { get; }

    /// <summary>The quote that is open at the cursor; NUL for none.</summary>
    public char Quote { get; }

    public static ShellLine Read(string line)
    {
        var words = new List<string>();
        var word = new StringBuilder();
        var (quote, begun, start) = ('\0', false, 0);
        for (var at = 0; at < line.Length; at++)
        {
            var c = line[at];
            if (quote == '\0' && (c is ' ' or '\t' or '\n'))
            {
                if (begun)
                    words.Add(word.ToString());
                word.Clear();
                (begun, start) = (false, at + 1);
                continue;
            }
            begun = true;
            if (quote == '\0' && (c is '"' or '\''))
                quote = c;
            else if (c == quote)
                quote = '\0';
            else if (c == '\\' && quote != '\'' && at + 1 < line.Length && (quote == '\0' || line[at + 1] is '"' or '\\' or '$' or '`'))
                word.Append(line[++at]);
            else
                word.Append(c);
        }
        return new ShellLine(words, word.ToString(), line[start..], quote);
    }

    /// <summary>What Bash puts in the place of what it takes for the word at the cursor: that begins behind a quote that is open, or behind
    /// the last of the characters at which Bash divides words (COMP_WORDBREAKS).</summary>
    public string ForBash(string value)
    {
        if (Quote != '\0')
        {
            var before = Read(Raw[..Raw.LastIndexOf(Quote)]).Word;
            var rest = value.StartsWith(before, StringComparison.Ordinal) ? value[before.Length..] : value;
            return Quote == '\'' ? rest.Replace("'", "'\\''", StringComparison.Ordinal)
                : string.Concat(rest.Select(c => c is '"' or '\\' or '$' or '`' ? $"\\{c}" : c.ToString()));
        }
        var colon = Word.AsSpan().LastIndexOfAny(':', '=') + 1;
        return string.Concat(value[(value.StartsWith(Word[..colon], StringComparison.Ordinal) ? colon : 0)..]
            .Select(c => char.IsLetterOrDigit(c) || "/._-,#@%+:=~".Contains(c, StringComparison.Ordinal) ? c.ToString() : $"\\{c}"));
    }
}
