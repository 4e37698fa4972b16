using System.CommandLine;
using Vembar.Cli.Json;
using Vembar.Common;
using Vembar.Operations;
using Vembar.Operations.Expect;
using Vembar.Operations.Show;

namespace Vembar.Cli.Commands.Check;

internal static class CheckCommand
{
    public static VembarCommand Create()
    {
        var what = new Argument<string?>("WHAT")
        {
            Description = "An image (as elsewhere), a disk image, a block device, or a folder that is the root of a Windows volume",
            Arity = ArgumentArity.ZeroOrOne,
        };
        var file = new Argument<string?>("FILE")
        {
            Description = "The expectations, a YAML file; '-' reads standard input",
            Arity = ArgumentArity.ZeroOrOne,
        };
        var volume = SharedOptions.Volume();
        var from = new Option<string?>("--from")
        {
            Description = "Write expectations that this image meets, to begin with",
            HelpName = "IMAGE",
        };
        var to = new Option<string?>("--out")
        {
            Description = "With --from: write them there; otherwise they are printed",
            HelpName = "FILE",
        };
        var report = SharedOptions.Report();
        var chain = SharedOptions.AllowChain();
        return new VembarCommand("check", "Look whether an install is what a file of expectations says: programs, drivers, settings, files",
            "vembar check --from desks.vmb#\"Reading room\" --out reading-room-expected.yaml",
            "vembar check desks.vmb#\"Reading room@pilot\" reading-room-expected.yaml --report reading-room.html",
            "vembar check desk-014.vhdx reading-room-expected.yaml")
            .With(what, file, volume, chain, from, to, report, SharedOptions.Base,
                SharedOptions.AtState).Does(async (parse, session) =>
            {
                if (parse.GetValue(from) is { } image)
                {
                    if (parse.GetValue(what) is not null || parse.GetValue(report) is not null)
                        throw new VembarException(ErrorKind.Usage, "from-or-check", "--from writes expectations, and looks at nothing else",
                            "Leave out the rest.");
                    return await DraftAsync(parse, session, image, parse.GetValue(to)).ConfigureAwait(false);
                }
                if (parse.GetValue(to) is not null)
                    throw new VembarException(ErrorKind.Usage, "option-alone", "--out does nothing by itself", "Give it with --from.");
                if (parse.GetValue(what) is not { } named || parse.GetValue(file) is not { } expectations)
                    throw new VembarException(ErrorKind.Usage, "no-expectations", "it was not said what to look at, and what is expected",
                        "Name an image, a disk or a folder, and a file of expectations; --from IMAGE writes one.");
                var page = OutputFile.At(parse.GetValue(report), session, Page.Mark);
                named = SharedOptions.Whole(named, session);
                var result = await session.Do(new CheckHandler(session.Host), new CheckRequest(named,
                    ImageReference.IsImage(named) ? SharedOptions.ImageOf(named, parse, session) : null,
                    parse.GetValue(volume), expectations, SharedOptions.Reading(parse, chain)));
                page?.Write(CheckPage.Render(result, expectations));
                session.Result(new CheckJson(result.What, result.Ok, CliJson.From(result.Install), [.. result.Expectations.Select(e =>
                    new ExpectationJson(e.Check, e.Severity, e.Text, e.IsSo, e.Found, e.Remedy))]), json => json.CheckJson,
                    () => Show(result, session));
                return result.Ok ? ExitCode.Done : ExitCode.NotInOrder;
            });
    }

    private static async Task<int> DraftAsync(ParseResult parse, Session session, string image, string? to)
    {
        var output = OutputFile.At(to, session);
        var shown = await session.Do(new ShowHandler(session.Host), new ShowRequest(
            SharedOptions.ImageOf(image, parse, session)));
        var text = ExpectationDraft.Of(shown);
        output?.Write(text);
        session.TextResult(new ExpectationDraftJson(to, text), json => json.ExpectationDraftJson, to, text, written =>
            Session.Line($"{written} says what {shown.Image.Title} is; take out what is of no matter."));
        return ExitCode.Done;
    }

    private static void Show(CheckResult result, Session session)
    {
        if (result.Install is { } install)
            Session.Line($"{install.Product}, build {install.Build}, {install.Architecture}, {install.ComputerName}");
        foreach (var wrong in result.Expectations.Where(e => !e.IsSo).OrderByDescending(e => e.Severity))
        {
            Session.Line();
            session.Finding(wrong.Severity.ToString().ToLowerInvariant(), $"{wrong.Check}: {wrong.Text}");
            Fields.Print(session, 6, ("found", wrong.Found), ("to fix", wrong.Remedy));
        }
        var failed = result.Expectations.Count(e => !e.IsSo);
        Session.Line();
        session.Verdict(failed == 0, Verdict(result));
    }

    /// <summary>How many are met, in a sentence.</summary>
    public static string Verdict(CheckResult result)
    {
        var (all, failed) = (result.Expectations.Count, result.Expectations.Count(e => !e.IsSo));
        return (all, failed) switch
        {
            (1, 0) => "The expectation is met.",
            (1, 1) => "The expectation is not met.",
            (_, 0) => $"All {Text.Number(all)} expectations are met.",
            _ => $"{Text.Count(failed, "expectation")} of {Text.Number(all)} {(failed == 1 ? "is" : "are")} not met.",
        };
    }
}
