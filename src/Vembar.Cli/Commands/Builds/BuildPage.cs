using System.Globalization;
using System.Text;
using Vembar.Operations.Builds;
using Vembar.Operations.Diff;

namespace Vembar.Cli.Commands.Builds;

/// <summary>A run as a page: what came of it, when each step was at work, and what the image has that the version before has not.</summary>
internal static class BuildPage
{
    private const int Width = 1100, Left = 190, Row = 26, Least = 3;

    private const string Style =
        """
        <style>
        svg{margin:.6rem 0}svg text{font:12px system-ui,"DejaVu Sans",sans-serif;fill:var(--ink)}svg .axis{fill:var(--soft)}
        svg .line{stroke:var(--line)}.b-done{fill:var(--c3)}.b-failed,.b-stopped{fill:var(--c5)}.b-running{fill:var(--c2)}
        </style>
        """;

    public static string Of(BuildState state)
    {
        var page = new StringBuilder();
        page.Append(Page.Begin($"{state.Title} {state.Version}", $"run {state.Run} of {state.Recipe}, by {state.By}, began "
            + $"{Text.Time(state.Began)}")).Append(Style);
        var isGood = state.Outcome is BuildOutcome.Done or BuildOutcome.Running;
        page.Append($"<div class=\"verdict {(isGood ? "good" : "bad")}\">{Page.E(Verdict(state))}");
        if (state.Problem.Length > 0)
            page.Append($"<p>{Page.E(state.Problem)}. {Page.E(state.Hint)}</p>");
        page.Append("</div>\n<h2>Steps</h2>\n").Append(TimeLine(state));
        var table = new PageTable(page, "Step", "With", "", ">Took", "What came of it");
        foreach (var step in state.Steps)
            table.Cells($"<th>{Page.E(step.Name)}</th>", $"<td>{Page.E(step.What)}</td>", $"<td class=\"{Word(step)}\">{Word(step)}</td>",
                $"<td class=\"n\">{(step.Seconds >= 0.05 ? Text.Duration(step.Seconds) : "")}</td>",
                $"<td>{Page.E(step.Outcome)}{Details(step)}</td>");
        table.End();
        if (state.Changes is { } changes)
            Changes(page, changes);
        return page.Append(Page.End).ToString();
    }

    private static string Word(BuildStep step) => step.State.ToString().ToLowerInvariant();

    private static string Verdict(BuildState state) => state.Outcome switch
    {
        BuildOutcome.Running => $"It is at {state.Steps.FirstOrDefault(s => s.State == BuildStepState.Running)?.Name ?? "its beginning"}.",
        BuildOutcome.Done when state.IsReused => "Nothing changed since the run before.",
        BuildOutcome.Done => $"Image {state.Image} is in {state.Archive}; made in {Text.Duration(state.Seconds)}, the archive grew by "
            + $"{Text.Size(state.BytesAdded)}.",
        BuildOutcome.Partly => $"Image {state.Image} is in {state.Archive}; something that comes after it failed.",
        _ => $"{state.Archive} is as it was.",
    };

    private static string Details(BuildStep step) => step.Details.Count == 0 ? ""
        : $"<small>{string.Join("<br>", step.Details.Select(Page.E))}</small>";

    // Each step where it stood in the run's time.
    private static string TimeLine(BuildState state)
    {
        var done = state.Steps.Where(s => s is { Began: not null, State: not (BuildStepState.Reused or BuildStepState.Skipped) }).ToList();
        if (done.Count == 0)
            return "";
        var begin = done.Min(s => s.Began!.Value);
        var end = Math.Max(0.1, done.Max(s => (s.Began!.Value - begin).TotalSeconds + s.Seconds));
        double X(double seconds) => Left + seconds / end * (Width - Left - 10);
        var height = (done.Count + 1) * Row;
        var svg = new StringBuilder(string.Create(CultureInfo.InvariantCulture,
            $"<svg viewBox=\"0 0 {Width} {height}\" role=\"img\" aria-label=\"When each step was at work\">"));
        const int Parts = 4;
        for (var part = 0; part <= Parts; part++)
        {
            var x = X(end * part / Parts);
            svg.Append(CultureInfo.InvariantCulture,
                $"<line class=\"line\" x1=\"{x:0.#}\" x2=\"{x:0.#}\" y1=\"0\" y2=\"{height - Row:0}\"/>");
            svg.Append(CultureInfo.InvariantCulture, $"<text class=\"axis\" x=\"{x:0.#}\" y=\"{height - 8:0}\" text-anchor=\"")
                .Append(part == Parts ? "end" : part == 0 ? "start" : "middle").Append("\">")
                .Append(part == 0 ? "0" : Text.Duration(end * part / Parts)).Append("</text>");
        }
        for (var i = 0; i < done.Count; i++)
        {
            var step = done[i];
            var (from, to) = (X((step.Began!.Value - begin).TotalSeconds), X((step.Began.Value - begin).TotalSeconds + step.Seconds));
            var label = step.Name + (step.What.Length > 0 && step.Name is BuildStepName.Service or BuildStepName.Sync ? $" {step.What}"
                : "");
            svg.Append(CultureInfo.InvariantCulture,
                $"<text x=\"0\" y=\"{i * Row + 17}\">{Page.E(Short(label))}</text><rect class=\"b-{Word(step)}\" "
                + $"x=\"{from:0.#}\" y=\"{i * Row + 5}\" width=\"{Math.Max(Least, to - from):0.#}\" height=\"{Row - 10}\" rx=\"2\"><title>"
                + $"{Page.E(label)}: {Text.Duration(step.Seconds)}</title></rect>");
        }
        return svg.Append("</svg>\n").ToString();
    }

    private static string Short(string label)
    {
        const int Most = 27;
        return label.Length <= Most ? label : $"{label[..(Most - 1)]}…";
    }

    private static void Changes(StringBuilder page, BuildChanges changes)
    {
        page.Append($"<h2>Against {Page.E(changes.From)}</h2>\n<p>{Text.Count(changes.Added, "path")} more, "
            + $"{Text.Number(changes.Removed)} fewer, "
            + $"{Text.Number(changes.Changed)} others; {(changes.Bytes < 0 ? "-" : "+")}{Text.Size(Math.Abs(changes.Bytes))}</p>\n");
        var rows = new StringBuilder();
        foreach (var (title, names) in ((string, ChangedNames?)[])[("Programs", changes.Programs), ("Drivers", changes.Drivers),
            ("Packages", changes.Packages), ("Features", changes.Features)])
        {
            if (names is null || names.Added.Count + names.Removed.Count == 0)
                continue;
            rows.Append($"<tr><th>{title}</th><td class=\"done\">{string.Join("<br>", names.Added.Select(Page.E))}</td><td class=\"gone\">"
                + $"{string.Join("<br>", names.Removed.Select(Page.E))}</td></tr>\n");
        }
        if (rows.Length > 0)
            page.Append("<table><thead><tr><th></th><th>New</th><th>Gone</th></tr></thead><tbody>\n").Append(rows)
                .Append("</tbody></table>\n");
        if (changes.Folders.Count == 0)
            return;
        var folders = new PageTable(page, "Folder", ">More", ">Fewer", ">Others");
        foreach (var folder in changes.Folders)
            folders.Row(folder.Folder.Length > 0 ? folder.Folder : "/", Zero(folder.Added), Zero(folder.Removed), Zero(folder.Changed));
        folders.End();
    }

    private static string Zero(int count) => count == 0 ? "" : Text.Number(count);
}
