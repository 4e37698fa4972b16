using System.CommandLine;
using Vembar.Operations.Sites;

namespace Vembar.Cli.Commands.Projects;

internal static class SyncCommand
{
    public static VembarCommand Create()
    {
        var names = SitesCommand.Names("The sites; all of them where none is named");
        var from = SitesCommand.From();
        var plan = new Option<bool>("--plan") { Description = "Only tell what would be done" };
        var wait = SharedOptions.Wait();
        return new VembarCommand("sync",
            "Bring the sites of the project file to what they should keep; only what is missing there is sent, locked images stay",
            "vembar sync --plan", "vembar sync", "vembar sync Staithe").With(names, from, plan, wait).Does(async (parse, session) =>
            {
                var planOnly = parse.GetValue(plan);
                var chosen = SitesCommand.Chosen(parse.GetValue(names) ?? [], session);
                var results = await session.Do(new SyncHandler(session.Host), new SyncRequest(
                    SharedOptions.ArchiveOf(parse.GetValue(from), session), chosen,
                    planOnly, SitesCommand.Memory(), TimeSpan.FromSeconds(parse.GetValue(wait))));
                session.Result(new SyncJson(planOnly, [.. results.Select(Json)]), json => json.SyncJson,
                    () => Show(results, planOnly, session));
                return results.All(r => r.Problem is null) ? ExitCode.Done : ExitCode.NotInOrder;
            });
    }

    private static SyncSiteJson Json(SyncResult result) => new(result.Site.Name, result.Site.Place, result.Problem is null,
        [.. result.Steps.Select(s => new SyncStepJson(s.What, s.Image, s.Done, s.Bytes, s.Why))], result.Seconds,
        result.Problem is null ? null : Errors.Body(result.Problem));

    private static void Show(IReadOnlyList<SyncResult> results, bool plan, Session session)
    {
        var table = new Table("Site", "Step", "Image", ">Grew by", "Remark");
        foreach (var result in results)
        {
            foreach (var step in result.Steps)
                table.Row(result.Site.Name, plan && step.What != "keep" ? $"would {step.What}" : step.What, step.Image,
                    step.Bytes > 0 ? Text.Size(step.Bytes) : "", step.Why);
            if (result.Problem is { } problem)
                table.Row(result.Site.Name, "failed", "", "", $"{AdviceText.MessageOf(problem)}. {AdviceText.Of(problem)}".TrimEnd());
            else if (result.Steps.Count == 0)
                table.Row(result.Site.Name, "-", "", "", "all as it should be");
        }
        table.Print(session);
        var failed = results.Count(r => r.Problem is not null);
        Session.Line();
        if (plan)
            Session.Line("This was a plan; nothing was changed.");
        Session.Line(failed == 0
            ? $"{Text.Count(results.Count, "site")} {(plan ? "can be" : "are")} as {(results.Count == 1 ? "it" : "they")} should be."
            : $"{Text.Count(failed, "site")} of {results.Count} failed; run it again to go on.");
    }
}
