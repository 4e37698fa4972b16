using System.Globalization;
using System.Text;
using Vembar.Common;

namespace Vembar.Windows.Servicing.Drivers;

/// <summary>The text of an INF file: sections with their lines.</summary>
/// <remarks>Source: the vendor's driver documentation, "General syntax rules for INF files" and "INF Strings section".</remarks>
public sealed class InfFile
{
    /// <summary>No INF longer than this is read, in bytes.</summary>
    public const int Longest = 16 << 20;

    private const int DeepestTokens = 16;
    private const ushort EnglishUnitedStates = 0x409;
    private readonly Dictionary<string, List<InfLine>> _sections;
    private readonly List<Dictionary<string, string>> _strings;

    private InfFile(string displayName, Dictionary<string, List<InfLine>> sections, ushort language)
    {
        DisplayName = displayName;
        _sections = sections;
        // The language itself, its main form, its neutral form, and what has no language; a token is looked for in that order.
        const int MainForm = 0x400, PrimaryMask = 0x3FF;
        var primary = language & PrimaryMask;
        _strings = [.. new[] { language, MainForm | primary, primary }.Distinct()
            .Select(l => string.Create(CultureInfo.InvariantCulture, $"Strings.{l:X4}")).Append("Strings").Where(Has).Select(Table)];
    }

    private Dictionary<string, string> Table(string section)
    {
        var table = new Dictionary<string, string>(StringComparer.OrdinalIgnoreCase);
        foreach (var line in Section(section))
        {
            if (line.Key is not null)
                table.TryAdd(line.Key, string.Join(",", line.Values));
        }
        return table;
    }

    /// <summary>The same file with its texts in a language, where it has them.</summary>
    /// <param name="language">Windows' number of the language (0x0809 for British English).</param>
    public InfFile In(ushort language) =>
        SectionNames.Any(n => n.StartsWith("Strings.", StringComparison.OrdinalIgnoreCase)) ? new InfFile(DisplayName, _sections, language)
        : this;

    /// <summary>What file it is, for messages.</summary>
    public string DisplayName { get; }

    /// <summary>The names of its sections.</summary>
    public IEnumerable<string> SectionNames => _sections.Keys;

    /// <summary>Reads an INF file: UTF-16 or UTF-8 with a mark, UTF-8, or else Windows' western code page.</summary>
    /// <exception cref="VembarException">The text is not an INF; the message names the line.</exception>
    public static InfFile Parse(ReadOnlySpan<byte> bytes, string displayName)
    {
        if (bytes.Length > Longest)
            throw Bad(displayName, 0, "", "it is too long to be one");
        var sections = new Dictionary<string, List<InfLine>>(StringComparer.OrdinalIgnoreCase);
        List<InfLine>? section = null;
        var number = 0;
        var pending = new StringBuilder();
        var first = 0;
        var within = "";
        // Old editors end a text with a control character; what follows it is none.
        var lines = Decode(bytes, displayName).Split('\x1A', 2)[0].Split('\n');
        foreach (var raw in lines)
        {
            number++;
            var text = WithoutComment(raw.TrimEnd('\r'), displayName, number, within).Trim();
            if (pending.Length == 0)
                first = number;
            // A backslash as the last sign, outside of quotes, goes on in the next line.
            if (text.EndsWith('\\') && !text.StartsWith('[') && number < lines.Length)
            {
                if (pending.Length > Longest / 2)
                    throw Bad(displayName, first, within, "a line that goes on without end");
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
                    throw Bad(displayName, number, within, "a section name without ']'");
                var name = within = text[1..end].Trim().Trim('"');
                if (!sections.TryGetValue(name, out section))
                    sections[name] = section = [];
                continue;
            }
            if (section is null)
                throw Bad(displayName, first, "", "text before the first section");
            section.Add(SplitLine(first, text));
        }
        return new InfFile(displayName, sections, EnglishUnitedStates);
    }

    private static VembarException Bad(string displayName, int line, string section, string problem)
    {
        var place = line > 0 ? string.Create(CultureInfo.InvariantCulture, $", line {line}") : "";
        var part = section.Length > 0 ? $", [{section}]" : "";
        return VembarException.Input("bad-inf", $"'{displayName}'{place}{part}: {problem}",
            "Take the driver package from its vendor again.");
    }

    /// <summary>An error in it.</summary>
    /// <param name="section">The section; may be empty.</param>
    /// <param name="line">The line; null when it is none in particular.</param>
    /// <param name="problem">What is wrong.</param>
    public VembarException Error(string section, InfLine? line, string problem) => Bad(DisplayName, line?.Number ?? 0, section, problem);

    private static string Decode(ReadOnlySpan<byte> bytes, string displayName)
    {
        var wide = bytes.StartsWith((ReadOnlySpan<byte>)[0xFF, 0xFE]) || (bytes.Length >= 2 && bytes[0] != 0 && bytes[1] == 0);
        var bigEndian = bytes.StartsWith((ReadOnlySpan<byte>)[0xFE, 0xFF]) || (bytes.Length >= 2 && bytes[0] == 0 && bytes[1] != 0);
        if (wide || bigEndian)
        {
            if (bytes.Length % 2 != 0)
                throw Bad(displayName, 0, "", "its last character is cut off");
            return (wide ? Encoding.Unicode : Encoding.BigEndianUnicode).GetString(bytes).TrimStart('\uFEFF');
        }
        if (bytes.StartsWith((ReadOnlySpan<byte>)[0xEF, 0xBB, 0xBF]))
            bytes = bytes[3..];
        // What is not UTF-8 is in Windows' western code page, in which every byte is a letter.
        const int WesternCodePage = 1252;
        return System.Text.Unicode.Utf8.IsValid(bytes) ? Encoding.UTF8.GetString(bytes)
            : CodePagesEncodingProvider.Instance.GetEncoding(WesternCodePage)!.GetString(bytes);
    }

    private static string WithoutComment(string line, string displayName, int number, string section)
    {
        if (line.Contains('\0'))
            throw Bad(displayName, number, section, "a NUL character; is this a text file?");
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
    public InfLine? Line(string section, string key) =>
        Section(section).FirstOrDefault(l => key.Equals(l.Key, StringComparison.OrdinalIgnoreCase));

    /// <summary>A text with its %tokens% replaced; a token that is not in [Strings] stays as it is.</summary>
    public string Expand(string text) => Expand(text, 0);

    private string Expand(string text, int depth)
    {
        if (!text.Contains('%'))
            return text;
        if (depth > DeepestTokens)
            throw Bad(DisplayName, 0, "Strings", $"the token in '{text}' names itself");
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
            else if (Token(text[(i + 1)..end]) is { } value)
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
                throw Bad(DisplayName, 0, "Strings", "its tokens grow without end");
        }
        return result.ToString();
    }

    private string? Token(string name)
    {
        foreach (var table in _strings)
        {
            if (table.TryGetValue(name, out var text))
                return text;
        }
        return null;
    }

    /// <summary>The text of an INF with these sections, which is read back as the same.</summary>
    public static string Render(IEnumerable<(string Name, IReadOnlyList<InfLine> Lines)> sections)
    {
        static string Quoted(string value) =>
            value.Length > 0
            && value.All(c => char.IsAsciiLetterOrDigit(c) || c is '.' or '_' or '$' or '&' or '{' or '}' or '-' or '%' or '@' or '#')
            ? value : $"\"{value.Replace("\"", "\"\"", StringComparison.Ordinal)}\"";
        var text = new StringBuilder();
        foreach (var (name, lines) in sections)
        {
            text.Append(CultureInfo.InvariantCulture, $"[{name}]\r\n");
            foreach (var line in lines)
            {
                if (line.Key is not null)
                    text.Append(line.Key).Append(" = ");
                text.AppendJoin(", ", line.Values.Select(Quoted)).Append("\r\n");
            }
        }
        return text.ToString();
    }
}
