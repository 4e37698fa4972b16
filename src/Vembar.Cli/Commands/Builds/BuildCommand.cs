using System.CommandLine;
using Vembar.Cli.Commands.Places;
using Vembar.Cli.Commands.Projects;
using Vembar.Common;
using Vembar.Operations.Builds;

namespace Vembar.Cli.Commands.Builds;

internal static class BuildCommand
{
    public static VembarCommand Create()
    {
        var recipe = new Argument<string>("RECIPE") { Description = "The recipe" };
        var variables = Variables();
        var plan = new Option<bool>("--plan") { Description = "Only tell what each step would do, and how long it took before" };
        var resume = new Option<string?>("--resume")
        {
            Description = "Go on with a run that failed or was ended, where it was",
            HelpName = "RUN",
        };
        var keep = new Option<bool>("--keep-artifacts")
        {
            Description = "Keep what the run worked in: the copy of the disk, its own archive",
        };
        var builds = Builds();
        var trust = SharedOptions.Trust();
        var wait = SharedOptions.Wait();
        return new VembarCommand("build", "Make an image by a recipe: from a reference, whose copy is made ready, to an image that was "
            + "serviced, checked and signed, in its channel and at its sites. The archive changes once, at the end",
            "vembar build vembar-demo/recipes/reading-room.yaml --plan", "vembar build vembar-demo/recipes/reading-room.yaml",
            "vembar build recipes/reading-room.yaml --resume 2026-11-27.1")
            .With(recipe, variables, plan, resume, keep, builds, trust, wait).Does(async (parse, session) =>
            {
                var path = parse.GetRequiredValue(recipe);
                var set = parse.GetRequiredValue(variables);
                if (parse.GetValue(plan) && parse.GetValue(resume) is not null)
                    throw new VembarException(ErrorKind.Usage, "plan-or-resume", "--plan tells of a new run, --resume goes on with one",
                        "Say one of the two; `vembar builds show` tells how far a run is.");
                // A password of a key cannot be asked for where nobody is.
                var result = await session.Do(new BuildHandler(session.Host), new BuildRequest
                {
                    Read = version => Read(path, set, version, session),
                    Builds = FolderOf(parse.GetValue(builds), session),
                    Resume = parse.GetValue(resume),
                    KeepArtifacts = parse.GetValue(keep),
                    PlanOnly = parse.GetValue(plan),
                    Trust = SharedOptions.TrustPaths(parse, trust, session),
                    Sites = session.Project?.Sites ?? [],
                    KnownChannels = session.Project?.Channels ?? [],
                    Memory = SitesCommand.Memory(),
                    Password = () => Environment.GetEnvironmentVariable("VEMBAR_KEY_PASSWORD")
                        ?? SecretPrompt.AskSecret("Password of the signer's key: "),
                    Wait = TimeSpan.FromSeconds(parse.GetValue(wait)),
                    Changed = (state, run) => File.WriteAllText(run.At("page.html"), BuildPage.Of(state)),
                });
                session.Result(new BuildRunJson(result.Folder, result.State, parse.GetValue(plan) ? result.Usual : null,
                    parse.GetValue(plan) ? result.Free : null),
                    json => json.BuildRunJson, () =>
                {
                    if (parse.GetValue(plan))
                        ShowPlan(result, session);
                    else
                    {
                        var where = parse.GetValue(builds) is { } folder ? $" --builds {folder}" : "";
                        ShowResult(result, $"vembar build {path}{where}", session);
                    }
                });
                return result.Failure is not { } failure ? ExitCode.Done
                    : result.IsRefused || result.State.Outcome == BuildOutcome.Partly ? ExitCode.NotInOrder : ExitCode.For(failure.Kind);
            });
    }

    public static Option<string[]> Variables() => new("--set")
    {
        Description = "Give a variable of the recipe another text; may be given several times",
        HelpName = "NAME=TEXT",
        DefaultValueFactory = _ => [],
    };

    public static Option<string?> Builds() => new("--builds")
    {
        Description = "Where runs are kept; otherwise the folder builds beside the project file, or here",
        HelpName = "DIR",
    };

    public static string FolderOf(string? given, Session session) => given
        ?? Path.Combine(session.Project is { } project ? Path.GetDirectoryName(project.Path)! : Directory.GetCurrentDirectory(), "builds");

    public static Recipe Read(string path, string[] set, string? version, Session session) => RecipeFile.Read(path,
        new RecipeLookup(session.Host).Options(SharedOptions.Pairs(set, "--set"), session.Project?.Archive, version));

    private static void ShowPlan(BuildResult plan, Session session)
    {
        var table = new Table("Step", "With", "!Would be", ">Took before");
        foreach (var (step, usual) in plan.State.Steps.Zip(plan.Usual))
            table.Row(step.Name, step.What, step.State switch
            {
                BuildStepState.Reused => "used again",
                BuildStepState.Skipped => "left out: nothing changed",
                _ => "done",
            }, usual >= 0 ? Text.Duration(usual) : "");
        table.Print(session);
        Session.Line();
        var known = plan.State.Steps.Zip(plan.Usual).Where(s => !s.First.IsThere && s.Second >= 0).Sum(s => s.Second);
        var title = $"{plan.State.ImageName} {plan.State.Version}";
        if (plan.State.IsReused)
            Session.Line($"Nothing changed: image {plan.State.Image} {title} of {plan.State.Archive} stays what it is.");
        else
            Session.Line($"This was a plan; nothing was changed. It would make {title} in {plan.State.Archive}"
                + (known > 0 ? $", in about {Text.Duration(known)}" : "")
                + (plan.State.BytesAdded > 0 ? $"; the archive grew by {Text.Size(plan.State.BytesAdded)} the last time" : "")
                + $". There is room for {Text.Size(plan.Free)}.");
    }

    public static void Steps(BuildState state, Session session)
    {
        var table = new Table("Step", "With", "!", ">Took", "What came of it");
        foreach (var step in state.Steps)
            table.Row(step.Name, step.What, step.State.ToString().ToLowerInvariant(), step.Seconds >= 0.05 ? Text.Duration(step.Seconds)
                : "",
                step.Outcome);
        table.Print(session);
    }

    private static void ShowResult(BuildResult result, string again, Session session)
    {
        var state = result.State;
        Steps(state, session);
        Session.Line();
        if (result.Failure is { } failure)
        {
            foreach (var detail in failure.Details)
                Session.Line($"  {detail}");
            var at = state.Steps.FirstOrDefault(s => s.State == BuildStepState.Failed);
            var where = at is null ? "" : $" at {at.Name}";
            Session.Line($"Failed{where}: {AdviceText.MessageOf(failure)}. {AdviceText.Of(failure)}".TrimEnd());
        }
        if (state.Changes is { } changes && result.Failure is null)
            Session.Line($"Against {changes.From}: {Text.Count(changes.Added, "path")} more, {Text.Number(changes.Removed)} fewer, "
                + $"{Text.Number(changes.Changed)} changed.");
        session.Verdict(state.Outcome == BuildOutcome.Done, state.Outcome switch
        {
            BuildOutcome.Done when state.IsReused => $"Nothing changed: image {state.Image} {state.ImageName} {state.Version} of "
                + $"{state.Archive} stays what it is.",
            BuildOutcome.Done => $"Image {state.Image} {state.ImageName} {state.Version} is in {state.Archive}, made in "
                + $"{Text.Duration(state.Seconds)}. What it did and changed: {Path.Combine(result.Folder!, "page.html")}",
            BuildOutcome.Partly => $"Image {state.Image} {state.ImageName} {state.Version} is in {state.Archive}; the rest: "
                + $"{again} --resume {state.Run}",
            _ => $"{state.Archive} is as it was. When it is put right: {again} --resume {state.Run}",
        });
    }
}
