using System.CommandLine;
using Vembar.Core.Operations;
using Vembar.Core.Windows;

namespace Vembar.Cli.Commands;

internal static class ReadyCommand
{
    public static VembarCommand Create()
    {
        var source = SharedOptions.Source();
        var volume = SharedOptions.Volume();
        var rules = SharedOptions.Rules();
        return new VembarCommand("ready", "Say whether an install may be captured: generalized, shut down, nothing pending, no password left",
            "vembar ready vembar-demo/disks/lending-desk.vhdx", "vembar ready /dev/sdb --rules vembar-demo/house/readiness.yaml --json")
            .With(source, volume, rules).Does((parse, session) =>
            {
                var result = ReadyOperation.Run(parse.GetRequiredValue(source), parse.GetValue(volume), parse.GetValue(rules), session.Progress, session.Cancellation);
                session.Result(new ReadyJson(result.Source, result.Volume, result.IsReady ? "ready" : "not-ready", CliJson.From(result.Install), result.Findings), json => json.ReadyJson, () => Show(result, session));
                return result.IsReady ? ExitCode.Done : ExitCode.NotInOrder;
            });
    }

    private static void Show(ReadyResult result, Session session)
    {
        if (result.Install is { } install)
            Session.Line($"{install.Product}, build {install.Build}, {install.Architecture}, {install.ComputerName}: {Fields.State(install.State)}");
        Print(result.Findings, session);
        Session.Line();
        int stops = result.Findings.Count(f => f.Severity == Severity.Stop), others = result.Findings.Count - stops;
        Session.Line(result.IsReady
            ? $"Ready to be captured{(others > 0 ? $"; {Text.Count(others, "remark")}" : "")}."
            : $"Not ready: {Text.Count(stops, "finding")} against it{(others > 0 ? $", {Text.Count(others, "further remark")}" : "")}.");
    }

    /// <summary>The findings, each with what was found and how to mend it.</summary>
    public static void Print(IEnumerable<Finding> findings, Session session)
    {
        foreach (var finding in findings)
        {
            Session.Line();
            Session.Line($"{finding.Severity.ToString().ToLowerInvariant(),-5} {finding.Check}: {Text.Safe(finding.Text)}");
            Fields.Print(session, 6, ("found", finding.Found), ("mend", finding.Mend));
        }
    }
}
