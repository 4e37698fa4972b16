using System.Text;
using Vembar.Operations;
using Vembar.Operations.Verify;

namespace Vembar.Cli.Commands.Verify;

/// <summary>How archives were found, as a page.</summary>
internal static class VerifyPage
{
    /// <summary>The page.</summary>
    /// <param name="archives">Each with what was found, or with why it could not be read.</param>
    /// <param name="now">When.</param>
    public static string Of(IReadOnlyList<(string Archive, VerifyResult? Result, string Problem)> archives, DateTime now)
    {
        var page = new StringBuilder(Page.Begin(archives.Count == 1 ? $"Verified: {Path.GetFileName(archives[0].Archive)}"
            : $"Verified: {Text.Count(archives.Count, "archive")}", Text.Time(now)));
        foreach (var (archive, result, problem) in archives)
        {
            if (archives.Count > 1)
                page.Append($"<h2>{Page.E(archive)}</h2>\n");
            if (result is null)
                page.Append(Page.Verdict(false, problem));
            else
                Append(page, result);
        }
        return page.Append(Page.End).ToString();
    }

    private static void Append(StringBuilder page, VerifyResult result)
    {
        var verdict = result.Damage.Count > 0 ? $"{result.Archive} is damaged: {Text.Count(result.Damage.Count, "problem")}."
            : result.IsWhole ? $"{result.Archive} is in order: every byte is as it should be."
            : $"{Text.Count(result.Images, "image")}: whole; an interrupted run left something behind them that the next change removes.";
        page.Append(Page.Verdict(result.Damage.Count == 0, verdict, $"{Text.Size(result.Bytes)} in {Text.Count(result.Blocks, "block")} "
            + $"read{Text.Took(result.Seconds)}; {Text.Count(result.Images, "image")}"
            + (result.UncommittedTail > 0 ? $"; {Text.Size(result.UncommittedTail)} of an interrupted run lie behind them" : "")
            + (result.Bases.Count > 0 ? $"; based on {string.Join(", ", result.Bases)}, which were not read" : "")));
        Table(page, "Damaged", result.Damage);
        Table(page, "Healed", result.Repaired);
        if (result.Signatures is not { Count: > 0 } signatures)
            return;
        page.Append("<h2>Signatures</h2>\n");
        var table = new PageTable(page, ">Image", "Name", "Signed by");
        foreach (var signature in signatures)
            page.Append($"<tr><td class=\"n\">{signature.Image}</td><td>{Page.E(signature.Title)}</td>"
                + (signature.Signer is { } signer ? $"<td class=\"done\">{Page.E(signer)}</td>"
                    : $"<td class=\"refused\">nobody trusted: {Page.E(signature.Why)}</td>") + "</tr>\n");
        table.End();
    }

    private static void Table(StringBuilder page, string title, IReadOnlyList<Damage> damage)
    {
        if (damage.Count == 0)
            return;
        page.Append($"<h2>{title}</h2>\n");
        var table = new PageTable(page, ">Image", "Path", "Problem");
        foreach (var one in damage)
            table.Row(one.Image == 0 ? "" : $"{one.Image}", one.Path, AdviceText.With(one.Problem, one.Advice));
        table.End();
    }
}
