using System.Globalization;
using System.Text;

namespace Vembar.Cli.Manual;

/// <summary>Manual pages in the form of man(7), for man(1).</summary>
internal static class ManPage
{
    /// <summary>What every page begins with.</summary>
    public const string Mark = ".TH VEMBAR";

    /// <summary>The name of a command's page, without its section.</summary>
    public static string NameOf(CommandManual manual) => string.Join('-', [CommandManual.Program, .. manual.Names]);

    /// <summary>A command's page, for section 1.</summary>
    /// <param name="manual">The command.</param>
    /// <param name="version">The program's version.</param>
    /// <param name="related">Names and sections of the pages that are told of at its end.</param>
    public static string Of(CommandManual manual, string version, IEnumerable<string> related)
    {
        var page = Begin(NameOf(manual), "1", version, CommandManual.Summary(manual.Description));
        page.Append(".SH SYNOPSIS\n");
        foreach (var line in manual.Synopsis)
            page.Append(".PP\n.B ").Append(Escaped(manual.Title)).Append('\n').Append(Escaped(line[manual.Title.Length..].Trim()))
                .Append('\n');
        page.Append(".SH DESCRIPTION\n").Append(Escaped(manual.Description)).Append(".\n");
        foreach (var section in manual.Sections.Append(manual.IsProgram ? manual.Common : null).OfType<ManualSection>())
        {
            page.Append(".SH ").Append(Escaped(section.Title.ToUpperInvariant())).Append('\n');
            foreach (var (term, text) in section.Entries)
                Item(page, term, text);
        }
        if (!manual.IsProgram)
            page.Append(".SH COMMON OPTIONS\nWhat every command takes besides, \n.BR vembar (1)\ntells.\n");
        page.Append(".SH EXIT STATUS\n");
        foreach (var (code, text) in ExitCode.Meanings)
            Item(page, code.ToString(CultureInfo.InvariantCulture), text);
        if (manual.Examples.Count > 0)
        {
            page.Append(".SH EXAMPLES\n.nf\n");
            foreach (var example in manual.Examples)
                page.Append(Escaped(example)).Append('\n');
            page.Append(".fi\n");
        }
        page.Append(".SH SEE ALSO\n").Append(Escaped(string.Join(", ", related))).Append('\n');
        return page.ToString();
    }

    /// <summary>The page of a subject, for section 7.</summary>
    public static string Of(ManualEntry topic, IReadOnlyList<TextBlock> text, string version)
    {
        var page = Begin($"{CommandManual.Program}-{topic.Term}", "7", version, topic.Text);
        page.Append(".SH DESCRIPTION\n");
        foreach (var block in text)
        {
            switch (block.Kind)
            {
                case TextBlockKind.Heading:
                    page.Append(".SH ").Append(Escaped(block.Text.ToUpperInvariant())).Append('\n');
                    break;
                case TextBlockKind.Paragraph:
                    page.Append(".PP\n").Append(Escaped(block.Text)).Append('\n');
                    break;
                case TextBlockKind.Code:
                    page.Append(".PP\n.RS 4\n.nf\n").Append(Escaped(block.Text)).Append("\n.fi\n.RE\n");
                    break;
                case TextBlockKind.Item when block.Term.Length > 0:
                    Item(page, block.Term, block.Text);
                    break;
                case TextBlockKind.Item:
                    page.Append(".IP \\(bu 2\n").Append(Escaped(block.Text)).Append('\n');
                    break;
            }
        }
        return page.ToString();
    }

    private static StringBuilder Begin(string name, string section, string version, string summary) => new StringBuilder()
        .Append(CultureInfo.InvariantCulture, $".TH {Escaped(name.ToUpperInvariant())} {section} \"\" \"Vembar {version}\"\n")
        .Append(".SH NAME\n").Append(Escaped(name)).Append(" \\- ").Append(Escaped(summary)).Append('\n');

    private static void Item(StringBuilder page, string term, string text) =>
        page.Append(".TP\n\\fB").Append(Escaped(term)).Append("\\fR\n").Append(Escaped(text)).Append('\n');

    // groff_char(7): what has a meaning of its own to the formatter; code, between backticks, is bold.
    private static string Escaped(string text)
    {
        var escaped = new StringBuilder();
        var code = false;
        foreach (var line in text.Split('\n'))
        {
            if (escaped.Length > 0)
                escaped.Append('\n');
            if (line.StartsWith('.') || line.StartsWith('\''))
                escaped.Append("\\&");
            foreach (var c in line)
            {
                if (c == '`')
                    code = !code;
                _ = c switch
                {
                    '`' => escaped.Append(code ? "\\fB" : "\\fR"),
                    '\\' => escaped.Append("\\e"),
                    '-' => escaped.Append("\\-"),
                    '~' => escaped.Append("\\(ti"),
                    '^' => escaped.Append("\\(ha"),
                    '\'' => escaped.Append("\\(aq"),
                    '"' => escaped.Append("\\(dq"),
                    _ => escaped.Append(c),
                };
            }
        }
        return escaped.ToString();
    }
}
