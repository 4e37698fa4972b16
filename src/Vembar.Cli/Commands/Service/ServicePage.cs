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
        var mark = result.Refused ? "bad" : "good";
        page.Append(CultureInfo.InvariantCulture,
            $"<div class=\"verdict {mark}\"><p><strong>{Page.E(string.Join(", ", words))}.</strong></p><p>{Page.E(verdict)}</p></div>\n");
        page.Append("<table><thead><tr><th>Change</th><th>What</th><th>Outcome</th><th>Why</th><th class=\"n\">Seconds</th><th "
            + "class=\"n\">Bytes</th></tr></thead><tbody>\n");
        foreach (var change in result.Changes)
        {
            page.Append(CultureInfo.InvariantCulture,
                $"<tr><td>{Page.E(change.Kind)}</td><td><code>{Page.E(change.What)}</code></td><td "
                + $"class=\"{change.Status.ToString().ToLowerInvariant()}\">{Page.E(ServiceCommand.Word(change, plan))}</td>");
            page.Append(CultureInfo.InvariantCulture,
                $"<td>{Page.E(AdviceText.With(change.Why, change.Advice))}</td><td class=\"n\">{change.Seconds:0.00}</td><td "
                + $"class=\"n\">{Page.E(Bytes(change.Bytes))}</td></tr>\n");
        }
        return page.Append("</tbody></table>\n").Append(Page.End).ToString();
    }

    /// <summary>Bytes more or less; nothing for none.</summary>
    public static string Bytes(long bytes) => bytes switch
    {
        0 => "",
        > 0 => $"+{Text.Size(bytes)}",
        _ => $"-{Text.Size(-bytes)}",
    };
}
