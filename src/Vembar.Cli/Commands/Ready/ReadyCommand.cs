using Vembar.Cli.Json;
using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.Ready;
using Vembar.Windows.Servicing.Mending;

namespace Vembar.Cli.Commands.Ready;

internal static class ReadyCommand
{
    public static VembarCommand Create()
    {
        var source = SharedOptions.Source();
        var volume = SharedOptions.Volume();
        var damaged = SharedOptions.AcceptDamaged();
        var chain = SharedOptions.AllowChain();
        var rules = SharedOptions.Rules();
        var report = SharedOptions.Report();
        return new VembarCommand("ready",
            "Say whether an install may be captured, or an image deployed: generalized, shut down, nothing pending, no password left",
            "vembar ready vembar-demo/disks/lending-desk.vhdx", "vembar ready /dev/sdb --rules vembar-demo/house/readiness.yaml --json",
            "vembar ready desks.vmb#1")
            .With(source, volume, damaged, chain, rules, report, SharedOptions.Base,
                SharedOptions.AtState).Does(async (parse, session) =>
            {
                var what = SharedOptions.Whole(parse.GetRequiredValue(source), session);
                var page = OutputFile.At(parse.GetValue(report), session, Page.Mark);
                var own = SharedOptions.RulesOf(parse, rules, session);
                if (ImageReference.IsImage(what) && parse.GetValue(volume) is not null)
                    throw new VembarException(ErrorKind.Usage, "no-volumes", $"'{what}' is an image, so it has no volumes to choose from",
                        "Leave out --volume.");
                var result = await session.Do(new ReadyHandler(session.Host), new ReadyRequest
                {
                    Source = what,
                    Volume = parse.GetValue(volume),
                    Reading = SharedOptions.Reading(parse, chain, damaged),
                    Image = ImageReference.IsImage(what) ? SharedOptions.ImageOf(what, parse, session) : null,
                    Rules = own,
                });
                page?.Write(ReadyPage.Of(result, session.Host.Clock.GetUtcNow().UtcDateTime));
                session.Result(new ReadyJson(result.Source, result.Volume, result.IsReady ? "ready" : "not-ready",
                    CliJson.From(result.Install), result.Findings), json => json.ReadyJson, () => Show(result, session));
                return result.IsReady ? ExitCode.Done : ExitCode.NotInOrder;
            });
    }

    private static void Show(ReadyResult result, Session session)
    {
        if (result.Install is { } install)
            Session.Line($"{install.Product}, build {install.Build}, {install.Architecture}, {install.ComputerName}: "
                + $"{Fields.State(install.State)}");
        Print(result.Findings, session);
        Session.Line();
        var mends = result.IsImage ? result.Findings.Where(f => f.Severity > Severity.Note && MendRule.Find(f.Check) is not null)
            .Select(f => f.Check).Distinct().ToList() : [];
        if (mends.Count > 0)
            Session.Line($"In the image itself: vembar service {result.Source} {string.Join(' ', mends.Select(m => $"--mend {m}"))} "
                + $"--in-place");
        session.Verdict(result.IsReady, Verdict(result));
    }

    /// <summary>Whether it is ready, in a sentence.</summary>
    public static string Verdict(ReadyResult result)
    {
        int stops = result.Findings.Count(f => f.Severity == Severity.Stop), others = result.Findings.Count - stops;
        var further = others > 0 ? $", {Text.Count(others, "further remark")}" : "";
        var remarks = others > 0 ? $"; {Text.Count(others, "remark")}" : "";
        return result.IsReady ? $"Ready to be {(result.IsImage ? "deployed" : "captured")}{remarks}."
            : $"Not ready: {Text.Count(stops, "finding")} against it{further}.";
    }

    /// <summary>The findings, each with what was found and how to mend it.</summary>
    public static void Print(IEnumerable<Finding> findings, Session session)
    {
        foreach (var finding in findings)
        {
            Session.Line();
            session.Finding(finding.Severity.ToString().ToLowerInvariant(), $"{finding.Check}: {finding.Text}");
            Fields.Print(session, 6, ("found", finding.Found), ("to fix", finding.Remedy));
        }
    }
}
