using System.CommandLine;
using Vembar.Operations.Builds;

namespace Vembar.Cli.Commands.Builds;

internal static class BuildsCommand
{
    public static VembarCommand Create()
    {
        var builds = BuildCommand.Builds();
        var name = new Argument<string?>("NAME")
        {
            Description = "Runs of this recipe alone",
            Arity = ArgumentArity.ZeroOrOne,
        };
        var command = new VembarCommand("builds", "List the runs of recipes: when, which version, how it ended, how long it took",
            "vembar builds", "vembar builds reading-room", "vembar builds show 2026-11-27.1", "vembar builds clean");
        command.With(name, builds).Does((parse, session) =>
        {
            var folder = BuildCommand.FolderOf(parse.GetValue(builds), session);
            var runs = RunsOf(folder, parse.GetValue(name));
            session.Result((IReadOnlyList<BuildState>)[.. runs.Select(r => r.State)], json => json.IReadOnlyListBuildState, () =>
            {
                if (runs.Count == 0)
                {
                    Session.Line($"No runs in '{folder}'.");
                    return;
                }
                var table = new Table("Recipe", "Run", "~Began", "!Ended", "~>Took", "Image", "~>Added", "~Kept");
                foreach (var (run, state) in runs)
                    table.Row(state.Name, state.Run, Text.Time(state.Began), EndOf(state), state.Seconds >= 0.05
                        ? Text.Duration(state.Seconds) : "",
                        state.Image is null ? $"({state.Version})" : $"{state.Image} {state.ImageName} {state.Version}",
                        state.BytesAdded > 0 ? Text.Size(state.BytesAdded) : "", File.Exists(run.Archive) || File.Exists(run.Overlay)
                        ? "what it worked in" : "");
                table.Print(session);
            });
            return ExitCode.Done;
        });
        var which = new Argument<string>("RUN") { Description = "The run: 2026-11-27.1, or NAME/2026-11-27.1" };
        command.Subcommands.Add(new VembarCommand("show", "Show a run: its steps, what each came to, and what it changed",
            "vembar builds show 2026-11-27.1").With(which, builds).Does((parse, session) =>
            {
                var run = BuildRun.Find(BuildCommand.FolderOf(parse.GetValue(builds), session), parse.GetRequiredValue(which));
                var state = run.Read() ?? throw Common.VembarException.Input("no-such-run", $"'{run.Folder}' does not say how far it is",
                    "It was damaged, or is no run.");
                session.Result(new BuildRunJson(run.Folder, state, null, null), json => json.BuildRunJson, () => Show(run, state, session));
                return ExitCode.Done;
            }));
        var all = new Option<bool>("--all") { Description = "Take the folders of ended runs away, with their logs and pages" };
        command.Subcommands.Add(new VembarCommand("clean", "Take away what runs worked in and what is kept for the next; their logs and "
            + "pages stay. What failed cannot be gone on with then, and the next build begins anew",
            "vembar builds clean", "vembar builds clean reading-room --all")
            .With(name, all, builds).Does((parse, session) =>
            {
                var folder = BuildCommand.FolderOf(parse.GetValue(builds), session);
                var freed = 0L;
                var cleaned = new List<string>();
                foreach (var runs in RunsOf(folder, parse.GetValue(name)).GroupBy(r => Path.GetDirectoryName(r.Run.Folder)!)
                    .Where(g => !BuildLock.IsHeld(g.Key)))
                {
                    freed += BuildRun.RemoveKept(runs.Key);
                    foreach (var (run, state) in runs)
                    {
                        var bytes = run.RemoveArtifacts();
                        if (parse.GetValue(all))
                            Directory.Delete(run.Folder, recursive: true);
                        if (bytes > 0 || parse.GetValue(all))
                            cleaned.Add($"{state.Name}/{state.Run}");
                        freed += bytes;
                    }
                }
                session.Result(new BuildsCleanJson(cleaned, freed), json => json.BuildsCleanJson, () => Session.Line(
                    cleaned.Count == 0 && freed == 0 ? "There was nothing to take away."
                    : $"{Text.Count(cleaned.Count, "run")}: {Text.Size(freed)} given back."));
                return ExitCode.Done;
            }));
        return command;
    }

    private static List<(BuildRun Run, BuildState State)> RunsOf(string folder, string? name) =>
        [.. BuildRun.Names(folder).Where(n => name is null || n == name).SelectMany(n => BuildRun.Of(folder, n))
            .Select(r => (Run: r, State: r.Read())).Where(r => r.State is not null).Select(r => (r.Run, r.State!))
            .OrderByDescending(r => r.Item2.Began)];

    // What says that it runs, and does not, was killed.
    private static string EndOf(BuildState state) => state.Outcome == BuildOutcome.Running ? "not ended"
        : state.IsReused ? "nothing changed" : state.Outcome.ToString().ToLowerInvariant();

    private static void Show(BuildRun run, BuildState state, Session session)
    {
        Session.Line($"{state.Title}: run {state.Run} of {state.Recipe}, by {state.By}");
        Session.Line($"began {Text.Time(state.Began)}, {EndOf(state)}"
            + (state.Ended is null ? "" : $" after {Text.Duration(state.Seconds)}"));
        Session.Line();
        BuildCommand.Steps(state, session);
        foreach (var step in state.Steps.Where(s => s.State == BuildStepState.Failed))
        {
            foreach (var detail in step.Details)
                Session.Line($"  {detail}");
        }
        Session.Line();
        if (state.Problem.Length > 0)
            Session.Line($"{state.Problem}. {state.Hint}".TrimEnd());
        Session.Line($"Its page: {run.At("page.html")}");
    }
}
