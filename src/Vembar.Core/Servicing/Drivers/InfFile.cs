using System.Globalization;
using System.Text;

namespace Vembar.Core.Servicing.Drivers;

/// <summary>A line of an INF section, in its parts, with tokens still in it.</summary>
/// <param name="Number">Its line in the file, from 1.</param>
/// <param name="Key">What stands in front of '='; null when there is no '='.</param>
/// <param name="Values">What stands behind, split at commas; without a '=' the whole line.</param>
public sealed record InfLine(int Number, string? Key, IReadOnlyList<string> Values)
{
    /// <summary>A value by its place; empty when there are not so many.</summary>
    public string Value(int index) => index < Values.Count ? Values[index] : "";
}

/// <summary>The text of an INF file: sections with their lines.</summary>
/// <remarks>Source: the vendor's driver documentation, "General syntax rules for INF files" and "INF Strings section".</remarks>
public sealed class InfFile
{
    /// <summary>No INF longer than this is read, in bytes.</summary>
    public const int Longest = 16 << 20;

    private const int DeepestTokens = 16;
    private readonly Dictionary<string, List<InfLine>> _sections;
    private readonly Dictionary<string, string> _strings;

    private InfFile(string shown, Dictionary<string, List<InfLine>> sections)
    {
        Shown = shown;
        _sections = sections;
        _strings = new Dictionary<string, string>(StringComparer.OrdinalIgnoreCase);
        foreach (var line in Section("Strings"))
        {
            if (line.Key is not null)
                _strings.TryAdd(line.Key, string.Join(",", line.Values));
        }
    }

    /// <summary>What file it is, for messages.</summary>
    public string Shown { get; }

    /// <summary>The names of its sections.</summary>
    public IEnumerable<string> SectionNames => _sections.Keys;

    /// <summary>Reads an INF file: UTF-16 or UTF-8 with a mark, UTF-8, or else Windows' western code page.</summary>
    /// <exception cref="VembarException">The text is not an INF; the message names the line.</exception>
    public static InfFile Parse(ReadOnlySpan<byte> bytes, string shown)
    {
        if (bytes.Length > Longest)
            throw Bad(shown, 0, "it is too long to be one");
        var sections = new Dictionary<string, List<InfLine>>(StringComparer.OrdinalIgnoreCase);
        List<InfLine>? section = null;
        var number = 0;
        var pending = new StringBuilder();
        var first = 0;
        foreach (var raw in Decode(bytes).Split('\n'))
        {
            number++;
            var text = WithoutComment(raw.TrimEnd('\r'), shown, number).Trim();
            if (pending.Length == 0)
                first = number;
            // A backslash as the last sign, outside of quotes, goes on in the next line.
            if (text.EndsWith('\\') && !text.StartsWith('['))
            {
                pending.Append(text[..^1]).Append(' ');
                continue;
            }
            text = pending.Append(text).ToString().Trim();
            pending.Clear();
            if (text.Length == 0)
                continue;
            if (text[0] == '[')
            {
                var end = text.IndexOf(']');
                if (end < 0)
                    throw Bad(shown, number, "a section name without ']'");
                var name = text[1..end].Trim().Trim('"');
                if (!sections.TryGetValue(name, out section))
                    sections[name] = section = [];
                continue;
            }
            if (section is null)
                throw Bad(shown, first, "text before the first section");
            section.Add(SplitLine(first, text));
        }
        return new InfFile(shown, sections);
    }

    private static VembarException Bad(string shown, int line, string problem) => VembarException.Input(
        "bad-inf", line > 0 ? string.Create(CultureInfo.InvariantCulture, $"'{shown}', line {line}: {problem}") : $"'{shown}': {problem}", "Take the driver package from its vendor again.");

    private static string Decode(ReadOnlySpan<byte> bytes)
    {
        if (bytes.StartsWith((ReadOnlySpan<byte>)[0xFF, 0xFE]))
            return Encoding.Unicode.GetString(bytes[2..]);
        if (bytes.StartsWith((ReadOnlySpan<byte>)[0xFE, 0xFF]))
            return Encoding.BigEndianUnicode.GetString(bytes[2..]);
        if (bytes.StartsWith((ReadOnlySpan<byte>)[0xEF, 0xBB, 0xBF]))
            bytes = bytes[3..];
        // Every byte above 127 that is not UTF-8 is one letter of the old western code page.
        return System.Text.Unicode.Utf8.IsValid(bytes) ? Encoding.UTF8.GetString(bytes) : Encoding.Latin1.GetString(bytes);
    }

    private static string WithoutComment(string line, string shown, int number)
    {
        if (line.Contains('\0'))
            throw Bad(shown, number, "a NUL character; is this a text file?");
        var quoted = false;
        for (var i = 0; i < line.Length; i++)
        {
            if (line[i] == '"')
                quoted = !quoted;
            else if (line[i] == ';' && !quoted)
                return line[..i];
        }
        return line;
    }

    private static InfLine SplitLine(int number, string text)
    {
        string? key = null;
        var values = new List<string>();
        var part = new StringBuilder();
        bool quoted = false, wasQuoted = false;
        void Close()
        {
            values.Add(wasQuoted ? part.ToString() : part.ToString().Trim());
            part.Clear();
            wasQuoted = false;
        }
        for (var i = 0; i < text.Length; i++)
        {
            var c = text[i];
            if (c == '"')
            {
                // Two quotes inside of quotes are one.
                if (quoted && i + 1 < text.Length && text[i + 1] == '"')
                {
                    part.Append('"');
                    i++;
                    continue;
                }
                if (!quoted && part.ToString().Trim().Length == 0)
                    part.Clear();
                quoted = !quoted;
                wasQuoted = true;
            }
            else if (quoted)
                part.Append(c);
            else if (c == '=' && key is null && values.Count == 0)
            {
                key = part.ToString().Trim();
                part.Clear();
                wasQuoted = false;
            }
            else if (c == ',')
                Close();
            else if (!(wasQuoted && char.IsWhiteSpace(c)))
                part.Append(c);
        }
        Close();
        if (key is not null && values is [""])
            values.Clear();
        return new InfLine(number, key, values);
    }

    /// <summary>Whether there is a section.</summary>
    public bool Has(string section) => _sections.ContainsKey(section);

    /// <summary>The lines of a section, all of that name together; empty when there is none.</summary>
    public IReadOnlyList<InfLine> Section(string name) => _sections.TryGetValue(name, out var lines) ? lines : [];

    /// <summary>The first line of a section with a key, or null.</summary>
    public InfLine? Line(string section, string key) => Section(section).FirstOrDefault(l => key.Equals(l.Key, StringComparison.OrdinalIgnoreCase));

    /// <summary>A text with its %tokens% replaced; a token that is not in [Strings] stays as it is.</summary>
    public string Expand(string text) => Expand(text, 0);

    private string Expand(string text, int depth)
    {
        if (!text.Contains('%'))
            return text;
        if (depth > DeepestTokens)
            throw Bad(Shown, 0, $"the token in '{text}' names itself");
        var result = new StringBuilder();
        for (var i = 0; i < text.Length; i++)
        {
            var end = text[i] == '%' ? text.IndexOf('%', i + 1) : -1;
            if (end < 0)
                result.Append(text[i]);
            else if (end == i + 1)
            {
                result.Append('%');
                i = end;
            }
            else if (_strings.TryGetValue(text[(i + 1)..end], out var value))
            {
                result.Append(Expand(value, depth + 1));
                i = end;
            }
            else
            {
                result.Append(text, i, end - i + 1);
                i = end;
            }
            if (result.Length > Longest)
                throw Bad(Shown, 0, "its tokens grow without end");
        }
        return result.ToString();
    }
}
