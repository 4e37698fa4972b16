using System.Text;

namespace Vembar.Cli.Manual;

/// <summary>A command's help as a terminal shows it.</summary>
/// <param name="width">How many columns there are; at least 40.</param>
/// <param name="headings">Whether headings are emphasised.</param>
internal sealed class HelpPage(int width, bool headings)
{
    private const int WidestTerm = 24, Gap = 2, Indent = 2;

    private readonly StringBuilder _text = new();

    /// <summary>The help of a command.</summary>
    /// <param name="manual">The command.</param>
    /// <param name="topics">The subjects that have a text of their own; told of the program.</param>
    /// <param name="brief">Whether what every command has is only named.</param>
    public string Of(CommandManual manual, IReadOnlyList<ManualEntry> topics, bool brief)
    {
        _text.Clear();
        Paragraph(manual.Description.TrimEnd('.') + ".", 0);
        _text.Append('\n');
        Heading("Usage");
        foreach (var line in manual.Synopsis)
            Paragraph(line, Indent, Indent + 4);
        // Commands of several groups stand in one column.
        var commands = manual.IsProgram ? manual.Sections.SelectMany(s => s.Entries).Max(e => e.Term.Length) : 0;
        foreach (var section in manual.Sections)
            Section(section, commands);
        if (manual.IsProgram)
        {
            if (!brief)
                Section(manual.Common);
            _text.Append('\n');
            Heading("Subjects, with `vembar help SUBJECT`");
            Paragraph(string.Join(", ", topics.Select(t => t.Term)), Indent);
        }
        if (manual.Examples.Count > 0)
        {
            _text.Append('\n');
            Heading("Examples");
            foreach (var example in manual.Examples)
                Command(example);
        }
        _text.Append('\n');
        if (!manual.IsProgram || brief)
            Paragraph($"Every command also takes {string.Join(", ", manual.Common.Entries.Select(e => e.Term.Split(' ').First(w =>
                w.StartsWith("--", StringComparison.Ordinal))))}: see `vembar --help`.", 0);
        return _text.ToString();
    }

    /// <summary>A text on a subject.</summary>
    public string Of(IReadOnlyList<TextBlock> text)
    {
        _text.Clear();
        var last = TextBlockKind.Title;
        foreach (var block in text)
        {
            if (_text.Length > 0 && !(block.Kind == TextBlockKind.Item && last is TextBlockKind.Item or TextBlockKind.Heading))
                _text.Append('\n');
            last = block.Kind;
            switch (block.Kind)
            {
                case TextBlockKind.Title or TextBlockKind.Heading:
                    Heading(block.Text, "");
                    break;
                case TextBlockKind.Code:
                    foreach (var line in block.Text.Split('\n'))
                        _text.Append(' ', Indent * 2).Append(line).Append('\n');
                    break;
                case TextBlockKind.Item when block.Term.Length > 0:
                    _text.Append(' ', Indent).Append(block.Term).Append('\n');
                    Paragraph(block.Text, Indent * 3);
                    break;
                case TextBlockKind.Item:
                    _text.Append("  - ");
                    Paragraph(block.Text, Indent * 2, Indent * 2, begun: true);
                    break;
                default:
                    Paragraph(block.Text, 0);
                    break;
            }
        }
        return _text.ToString();
    }

    // A command line that can be copied as it stands: broken behind a backslash.
    private void Command(string example)
    {
        var lines = LineBreaks.Lines(Words(example).Select(w => new LineBreaks.Token(w)), width - Indent - 2, rest: "    ").ToList();
        for (var at = 0; at < lines.Count; at++)
            _text.Append(' ', Indent).Append(lines[at]).Append(at < lines.Count - 1 ? " \\\n" : "\n");
    }

    private void Heading(string title, string end = ":") =>
        _text.Append(headings ? $"\u001b[1m{title}{end}\u001b[0m\n" : $"{title}{end}\n");

    private void Section(ManualSection section, int column = 0)
    {
        _text.Append('\n');
        Heading(section.Title);
        var terms = section.Entries.Select(e => e.Term.Length).Where(l => l <= WidestTerm).Append(column).Max();
        foreach (var (term, text) in section.Entries)
        {
            var texts = Indent + terms + Gap;
            _text.Append(' ', Indent).Append(term);
            if (term.Length > terms)
                _text.Append('\n').Append(' ', texts);
            else
                _text.Append(' ', terms - term.Length + Gap);
            Paragraph(text, texts, texts, begun: true);
        }
    }

    private void Paragraph(string text, int indent, int? rest = null, bool begun = false)
    {
        var first = true;
        foreach (var line in LineBreaks.Lines(LineBreaks.Words(text), width - (rest ?? indent)))
        {
            if (!(begun && first))
                _text.Append(' ', first ? indent : rest ?? indent);
            _text.Append(line).Append('\n');
            first = false;
        }
        if (first && begun)
            _text.Append('\n');
    }

    // What stands between quotes stays together, and so do an option and its value.
    private static IEnumerable<string> Words(string example)
    {
        var (start, quoted) = (0, false);
        for (var at = 0; at < example.Length; at++)
        {
            quoted ^= example[at] == '"';
            if (quoted || example[at] != ' ' || (example[start] == '-' && !example[start..at].Contains(' ')
                && example[at + 1] is not '-' and not '>'))
                continue;
            yield return example[start..at];
            start = at + 1;
        }
        yield return example[start..];
    }
}
