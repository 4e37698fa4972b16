using System.Globalization;
using System.Text;
using Vembar.Operations.Service;

namespace Vembar.Cli.Commands.Service;

/// <summary>What servicing did, as an HTML page.</summary>
internal static class ServicePage
{
    public static string Render(ServiceResult result, bool plan)
    {
        var page = new StringBuilder();
        var title = $"{(plan ? "Plan for" : "Serviced:")} {result.Image.Name}";
        page.Append(Page.Begin(title, $"image {result.Image.Number} of {result.Archive} · {Text.Time(DateTime.UtcNow)}"));
        var words = result.Changes.GroupBy(c => ServiceCommand.Word(c, plan)).Select(g => $"{g.Count()} {g.Key}");
        var verdict = result.Refused
            ? plan ? "A change would be refused, so nothing would be written." : "Nothing was written, because a change was refused."
            : plan ? "Nothing was written."
            : result.Written ? $"The archive grew by {Text.Size(result.BytesStored)}." : "Nothing had to be changed.";
        page.Append(Page.Verdict(!result.Refused, $"{string.Join(", ", words)}.", verdict));
        var table = new PageTable(page, "Change", "What", "Outcome", "Why", ">Seconds", ">Bytes");
        foreach (var change in result.Changes)
        {
            table.Cells($"<td>{Page.E(change.Kind)}</td>", $"<td><code>{Page.E(change.What)}</code></td>",
                $"<td class=\"{change.Status.ToString().ToLowerInvariant()}\">{Page.E(ServiceCommand.Word(change, plan))}</td>",
                $"<td>{Page.E(AdviceText.With(change.Why, change.Advice))}</td>",
                $"<td class=\"n\">{change.Seconds.ToString("0.00", CultureInfo.InvariantCulture)}</td>",
                $"<td class=\"n\">{Page.E(Bytes(change.Bytes))}</td>");
        }
        table.End();
        return page.Append(Page.End).ToString();
    }

    /// <summary>Bytes more or less; nothing for none.</summary>
    public static string Bytes(long bytes) => bytes switch
    {
        0 => "",
        > 0 => $"+{Text.Size(bytes)}",
        _ => $"-{Text.Size(-bytes)}",
    };
}
