using System.Text;
using Vembar.Operations.Expect;

namespace Vembar.Cli.Commands.Check;

/// <summary>How an install stands beside expectations, as an HTML page.</summary>
internal static class CheckPage
{
    public static string Render(CheckResult result, string expectations)
    {
        var page = new StringBuilder();
        page.Append(Page.Begin($"Checked: {result.What}", $"against {Path.GetFileName(expectations)} · {Text.Time(DateTime.UtcNow)}"));
        var install = result.Install is { } windows
            ? $"{windows.Product}, build {windows.Build}, {windows.Architecture}, {windows.ComputerName}" : "";
        var verdict = CheckCommand.Verdict(result);
        page.Append(Page.Verdict(result.Ok, verdict, install));
        var hasRemedies = result.Expectations.Any(e => e.Remedy.Length > 0);
        string[] headings = ["Expected", "Met", "Found"];
        var table = new PageTable(page, hasRemedies ? [.. headings, "To fix"] : headings);
        foreach (var expectation in result.Expectations.OrderBy(e => e.IsSo).ThenByDescending(e => e.Severity))
        {
            var (mark, word) = expectation.IsSo ? ("done", "yes")
                : expectation.Severity == Images.Records.Severity.Stop ? ("refused", "no") : ("u1", "no");
            var remedy = hasRemedies ? $"<td>{Page.E(expectation.Remedy)}</td>" : "";
            table.Cells($"<td>{Page.E(expectation.Text)}<small>{Page.E(expectation.Check)}, "
                + $"{expectation.Severity.ToString().ToLowerInvariant()}</small></td>", $"<td class=\"{mark}\">{word}</td>",
                $"<td>{Page.E(expectation.Found)}</td>", remedy);
        }
        table.End();
        return page.Append(Page.End).ToString();
    }
}
