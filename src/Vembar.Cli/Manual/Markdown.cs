using System.Text;
using Markdig;
using Markdig.Extensions.Tables;
using Markdig.Syntax;
using Markdig.Syntax.Inlines;
using MarkdownTable = Markdig.Extensions.Tables.Table;

namespace Vembar.Cli.Manual;

/// <summary>Reads the pages of docs/ as pieces that a terminal and a manual page can show: a table becomes a list of its rows.</summary>
internal static class Markdown
{
    private static readonly MarkdownPipeline s_pipeline = new MarkdownPipelineBuilder().UsePipeTables().Build();

    public static IReadOnlyList<TextBlock> Read(string text)
    {
        var blocks = new List<TextBlock>();
        Add(Markdig.Markdown.Parse(text, s_pipeline), blocks);
        return blocks;
    }

    private static void Add(ContainerBlock container, List<TextBlock> blocks)
    {
        foreach (var block in container)
        {
            switch (block)
            {
                case HeadingBlock heading:
                    blocks.Add(new(heading.Level == 1 ? TextBlockKind.Title : TextBlockKind.Heading, Words(heading.Inline)));
                    break;
                case ParagraphBlock paragraph when Words(paragraph.Inline) is { Length: > 0 } words:
                    blocks.Add(new(TextBlockKind.Paragraph, words));
                    break;
                case CodeBlock code:
                    blocks.Add(new(TextBlockKind.Code, code.Lines.ToString().TrimEnd()));
                    break;
                case MarkdownTable table:
                    AddRows(table, blocks);
                    break;
                case ListBlock list:
                    foreach (var item in list.Cast<ListItemBlock>())
                        blocks.Add(new(TextBlockKind.Item, string.Join(' ', item.Descendants<ParagraphBlock>()
                            .Select(p => Words(p.Inline)))));
                    break;
                case ContainerBlock inner:
                    Add(inner, blocks);
                    break;
            }
        }
    }

    // The first cell is what the others explain; from the third on with what the column is called.
    private static void AddRows(MarkdownTable table, List<TextBlock> blocks)
    {
        var rows = table.Cast<TableRow>().Select(r => r.Cast<TableCell>().Select(CellOf).ToList()).ToList();
        var headings = rows[0];
        foreach (var row in rows.Skip(1))
        {
            var text = new StringBuilder(row.Count > 1 ? row[1] : "");
            for (var at = 2; at < row.Count; at++)
            {
                if (row[at].Length > 0)
                    text.Append(text.Length > 0 ? ". " : "").Append($"{headings[at]}: {row[at]}");
            }
            blocks.Add(new(TextBlockKind.Item, text.ToString(), row[0].Replace("`", "", StringComparison.Ordinal)));
        }
    }

    private static string CellOf(TableCell cell) => string.Join(' ', cell.Descendants<ParagraphBlock>().Select(p => Words(p.Inline)));

    private static string Words(ContainerInline? inlines)
    {
        var text = new StringBuilder();
        foreach (var inline in inlines ?? Enumerable.Empty<Inline>())
        {
            _ = inline switch
            {
                CodeInline code => text.Append('`').Append(code.Content).Append('`'),
                LiteralInline literal => text.Append(literal.Content.ToString()),
                LineBreakInline => text.Append(' '),
                LinkInline { IsImage: true } => text,
                LinkInline { Url: { } url } page when Topic.OfPage(url) is { } topic =>
                    text.Append(Words(page)).Append($" (`{CommandManual.Program} help {topic}`)"),
                AutolinkInline link => text.Append(link.Url),
                HtmlEntityInline entity => text.Append(entity.Transcoded.ToString()),
                ContainerInline inner => text.Append(Words(inner)),
                _ => text,
            };
        }
        return text.ToString().Trim();
    }
}
