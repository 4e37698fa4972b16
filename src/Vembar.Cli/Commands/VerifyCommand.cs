using Vembar.Core.Operations;

namespace Vembar.Cli.Commands;

internal static class VerifyCommand
{
    public static VembarCommand Create()
    {
        var archive = SharedOptions.Archive("The archive");
        return new VembarCommand("verify", "Read an archive whole and check every byte; name damaged images and files",
            "vembar verify desks.vmb", "vembar verify desks.vmb --json")
            .With(archive).Does((parse, session) =>
            {
                var result = VerifyOperation.Run(parse.GetRequiredValue(archive), session.Progress, session.Cancellation);
                var json = new VerifyJson(
                    result.Archive, result.Ok, result.Blocks, result.Bytes, result.LeftOver, result.Seconds, [.. result.Damage.Select(d => new DamageJson(d.Image == 0 ? null : d.Image, d.Path, d.Problem))], []);
                session.Result(json, CliJson.Default.VerifyJson, () => Show(result, session));
                return result.Ok ? ExitCode.Done : ExitCode.NotInOrder;
            });
    }

    private static void Show(VerifyResult result, Session session)
    {
        if (result.Ok)
        {
            Session.Line($"{result.Archive} is in order: {Text.Size(result.Bytes)} in {Text.Count(result.Blocks, "block")} read in {Text.Duration(result.Seconds)}, every byte as it should be.");
            return;
        }
        if (result.LeftOver > 0)
            Session.Line($"The last {Text.Number(result.LeftOver)} bytes belong to no finished state: a run was interrupted, or the file was cut short. The next change removes them.");
        if (result.Damage.Count == 0)
            return;
        Session.Line($"{result.Archive} is damaged: {Text.Count(result.Damage.Count, "problem")}.");
        Session.Line();
        var table = new Table(">Image", "Path", "Problem");
        // A terminal shows how it begins; a pipe gets all of it.
        const int OnTerminal = 25;
        foreach (var damage in result.Damage.Take(Console.IsOutputRedirected ? int.MaxValue : OnTerminal))
            table.Row(damage.Image == 0 ? "-" : $"{damage.Image}", damage.Path, damage.Problem);
        table.Print(session);
        if (!Console.IsOutputRedirected && result.Damage.Count > OnTerminal)
            Session.Line($"and {Text.Number(result.Damage.Count - OnTerminal)} more; `vembar verify {result.Archive} | less` shows all of them.");
    }
}
