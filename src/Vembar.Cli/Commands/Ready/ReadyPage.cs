using System.Text;
using Vembar.Operations.Ready;

namespace Vembar.Cli.Commands.Ready;

/// <summary>Whether an install may be captured, as a page.</summary>
internal static class ReadyPage
{
    public static string Of(ReadyResult result, DateTime now)
    {
        var volume = result.Volume is { } number ? $", volume {number}" : "";
        var page = new StringBuilder(Page.Begin($"Readiness of {Path.GetFileName(result.Source)}",
            $"{result.Source}{volume} · {Text.Time(now)}"));
        var install = result.Install is { } windows ? $"{windows.Product}, build {windows.Build}, {windows.Architecture}, "
            + $"{windows.ComputerName}: {Fields.State(windows.State)}" : "";
        page.Append(Page.Verdict(result.IsReady, ReadyCommand.Verdict(result), install));
        if (result.Findings.Count == 0)
            return page.Append(Page.End).ToString();
        var table = new PageTable(page, "", "What", "Found", "To fix");
        foreach (var finding in result.Findings)
        {
            var severity = finding.Severity.ToString().ToLowerInvariant();
            page.Append($"<tr><td class=\"{severity}\">{severity}</td><td>{Page.E(finding.Text)}<small>{Page.E(finding.Check)}</small></td>"
                + $"<td>{Page.E(finding.Found)}</td><td>{Page.E(finding.Remedy)}</td></tr>\n");
        }
        table.End();
        return page.Append(Page.End).ToString();
    }
}
