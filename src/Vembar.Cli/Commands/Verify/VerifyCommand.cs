using System.CommandLine;
using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.Sign;
using Vembar.Operations.Verify;
using Vembar.Store.Places;

namespace Vembar.Cli.Commands.Verify;

internal static class VerifyCommand
{
    public static VembarCommand Create()
    {
        var archives = new Argument<string[]>("ARCHIVE")
        {
            Description = "The archive, or several; the project file's where none is named",
            Arity = ArgumentArity.ZeroOrMore,
        };
        var repair = new Option<string[]>("--repair-from")
        {
            Description = "Heal what is damaged with the same content from another archive; may be given several times",
            HelpName = "OTHER",
            DefaultValueFactory = _ => [],
        };
        var recover = new Option<string?>("--recover")
        {
            Description = "Make a new archive of what can be read, when indexes or the end of this one are gone",
            HelpName = "NEW",
        };
        var giveUp = new Option<bool>("--give-up-newer")
        {
            Description = "Give up a newer state that is damaged, behind the last whole one; what it held is lost",
        };
        var strict = new Option<bool>("--strict")
        {
            Description = "End with 1 also when all images are whole and only an interrupted run left something behind them",
        };
        var signers = SharedOptions.SignedBy();
        var report = SharedOptions.Report("Write what was found as an HTML page; not with --recover and --give-up-newer");
        var wait = SharedOptions.Wait();
        return new VembarCommand("verify", "Read an archive whole and check every byte; name damaged images and files; heal or recover",
            "vembar verify desks.vmb", "vembar verify desks.vmb --repair-from /mnt/copy/desks.vmb",
            "vembar verify broken.vmb --recover saved.vmb")
            .With(archives, signers, repair, recover, giveUp, strict, report, wait, SharedOptions.Base).Does(async (parse, session) =>
            {
                var others = parse.GetRequiredValue(repair);
                if (parse.GetValue(report) is not null && (parse.GetValue(recover) is not null || parse.GetValue(giveUp)))
                    throw new VembarException(ErrorKind.Usage, "no-report", "--report goes with neither --recover nor --give-up-newer",
                        "Verify the archive again afterwards, with --report.");
                var page = OutputFile.At(parse.GetValue(report), session, Page.Mark);
                if (parse.GetValue(archives) is { Length: > 1 } several)
                {
                    if (others.Length > 0 || parse.GetValue(recover) is not null || parse.GetValue(giveUp))
                        throw new VembarException(ErrorKind.Usage, "one-archive",
                            "--repair-from, --recover and --give-up-newer are for one archive", "Name that one alone.");
                    return await SeveralAsync([.. several.Select(a => SharedOptions.PlaceOf(parse, a, session))],
                        SharedOptions.SignersOf(parse, signers, session), parse.GetValue(strict), page, session).ConfigureAwait(false);
                }
                var path = SharedOptions.PlaceOf(parse, parse.GetValue(archives)?.FirstOrDefault(), session);
                if (parse.GetValue(giveUp))
                {
                    if (others.Length > 0 || parse.GetValue(recover) is not null)
                        throw new VembarException(ErrorKind.Usage, "give-up-or-save",
                            "--give-up-newer excludes --repair-from and --recover", "Recover or repair first.");
                    var left = await session.Do(new GiveUpTailHandler(session.Host),
                        new GiveUpTailRequest(path, TimeSpan.FromSeconds(parse.GetValue(wait))));
                    session.Result(Json(left, parse.GetValue(strict)), json => json.VerifyJson, () => Show(left, session));
                    return IsGood(left, parse.GetValue(strict)) ? ExitCode.Done : ExitCode.NotInOrder;
                }
                if (parse.GetValue(recover) is { } target)
                {
                    if (others.Length > 0)
                        throw new VembarException(ErrorKind.Usage, "repair-or-recover", "--repair-from and --recover exclude each other",
                            "Recover first, then repair the new archive.");
                    return await RecoverAsync(path, target, session).ConfigureAwait(false);
                }
                var result = others.Length > 0
                    ? await session.Do(new RepairHandler(session.Host),
                        new RepairRequest(path, others, TimeSpan.FromSeconds(parse.GetValue(wait))))
                    : await session.Do(new VerifyHandler(session.Host),
                    new VerifyRequest(path, SharedOptions.SignersOf(parse, signers, session)));
                page?.Write(VerifyPage.Of([(path.Path, result, "")], session.Host.Clock.GetUtcNow().UtcDateTime));
                session.Result(Json(result, parse.GetValue(strict)), json => json.VerifyJson, () => Show(result, session));
                return IsGood(result, parse.GetValue(strict)) ? ExitCode.Done : ExitCode.NotInOrder;
            });
    }

    // Each is read, whatever is the matter with another.
    private static async Task<int> SeveralAsync(IReadOnlyList<ArchiveLocation> places, ImageTrust? signers, bool strict,
        OutputFile? page, Session session)
    {
        var results = new List<VerifyJson>();
        var read = new List<(string Archive, VerifyResult? Result, string Problem)>();
        var code = ExitCode.Done;
        foreach (var place in places)
        {
            try
            {
                var result = await session.Do(new VerifyHandler(session.Host), new VerifyRequest(place, signers));
                results.Add(Json(result, strict));
                read.Add((place.Path, result, ""));
                if (!IsGood(result, strict))
                    code = Math.Max(code, ExitCode.NotInOrder);
                if (!session.IsTold)
                    continue;
                session.Progress.Clear();
                Show(result, session);
            }
            catch (VembarException error) when (error.Code != VembarException.Interrupted)
            {
                session.Progress.Clear();
                code = Math.Max(code, ExitCode.For(error.Kind));
                read.Add((place.Path, null, AdviceText.MessageOf(error)));
                Errors.Tell(error, json: false, session.Verbose);
            }
        }
        page?.Write(VerifyPage.Of(read, session.Host.Clock.GetUtcNow().UtcDateTime));
        if (session.Json)
            session.Result(results, json => json.ListVerifyJson, () => { });
        return code;
    }

    private static DamageJson From(Damage damage) => new(damage.Image == 0 ? null : damage.Image, damage.Path,
        AdviceText.With(damage.Problem, damage.Advice));

    private static bool IsGood(VerifyResult result, bool strict) => strict ? result.Ok : result.IsSound;

    private static VerifyJson Json(VerifyResult result, bool strict) => new(
        result.Archive, IsGood(result, strict), result.Blocks, result.Bytes, result.UncommittedTail, result.Seconds,
        [.. result.Damage.Select(From)],
        [.. result.Repaired.Select(From)], result.Bases, result.Images,
        result.Signatures?.Select(s => new VerifiedSignatureJson(s.Image, s.Signer, s.Why)).ToList());

    private static async Task<int> RecoverAsync(ArchiveLocation place, string target, Session session)
    {
        var path = place.Path;
        var result = await session.Do(new RecoverHandler(session.Host), new RecoverRequest(place, target));
        session.Result(new RecoverJson(path, result.Archive, result.Images, result.Blocks, [.. result.Lost.Select(From)]),
            json => json.RecoverJson, () =>
        {
            Session.Line($"{result.Archive} holds what could be read of {path}: {Text.Count(result.Images.Count, "image")} from "
                + $"{Text.Count(result.Blocks, "sound block")}.");
            foreach (var image in result.Images)
                Session.Line($"  {image.Number}  {image.Name}: {Text.Count(image.Files, "file")}");
            if (result.Lost.Count == 0)
                Session.Line("Nothing was lost.");
            else
            {
                Session.Line($"Lost ({Text.Number(result.Lost.Count)}):");
                Table(result.Lost, session, path);
            }
        });
        return result.Lost.Count > 0 ? ExitCode.NotInOrder : ExitCode.Done;
    }

    private static void Show(VerifyResult result, Session session)
    {
        if (result.Repaired.Count > 0)
            Session.Line($"Healed {Text.Count(result.Repaired.Count, "problem")}.");
        ShowSignatures(result, session);
        if (result.IsWhole)
        {
            foreach (var based in result.Bases)
                Session.Line($"It is based on {based}, which holds all that is needed of it; `vembar verify {based}` reads that one.");
            session.Verdict(true, $"{result.Archive} is in order: {Text.Size(result.Bytes)} in {Text.Count(result.Blocks, "block")} read, "
                + $"every byte as it should be{Text.Took(result.Seconds)}.");
            return;
        }
        if (result.Damage.Count == 0)
        {
            var (subject, them) = result.Images == 1 ? ("The image is", "it") : ($"All {Text.Count(result.Images, "image")} are", "them");
            var tail = result.UncommittedTail > 0
                ? $"; {Text.Size(result.UncommittedTail)} of an interrupted run, or of a file that was cut "
                + $"short, lie behind {them}. The next change removes them" : "";
            session.Verdict(true, $"{subject} whole{tail}.");
        }
        else if (result.UncommittedTail > 0)
            Session.Line($"The last {Text.Number(result.UncommittedTail)} bytes belong to no finished state: a run was interrupted, or "
                + $"the file was cut short. The next change removes them.");
        if (result.IsRecordSingle)
            Session.Line("The last run was interrupted between the two copies of its record; it is done, and the next change adds the "
                + "second copy.");
        if (result.Damage.Count == 0)
            return;
        Table(result.Damage, session, result.Archive);
        Session.Line();
        session.Verdict(false, $"{result.Archive} is damaged: {Text.Count(result.Damage.Count, "problem")}. Heal it with `vembar verify "
            + $"{result.Archive} --repair-from COPY`, or save what can be read with --recover NEW.vmb.");
    }

    private static void ShowSignatures(VerifyResult result, Session session)
    {
        if (result.Signatures is not { Count: > 0 } signatures)
            return;
        var table = new Table(">Image", "Name", "Signed by");
        foreach (var signature in signatures)
            table.Row($"{signature.Image}", signature.Title, signature.Signer ?? $"NOBODY TRUSTED: {signature.Why}");
        table.Print(session);
        Session.Line();
        if (signatures.Count(s => s.Signer is null) is > 0 and var unsigned)
            Session.Line($"{Text.Count(unsigned, "image")} of {signatures.Count} {(unsigned == 1 ? "is" : "are")} not signed by anybody "
                + $"trusted.");
    }

    private static void Table(IReadOnlyList<Damage> list, Session session, string archive)
    {
        // A terminal shows how it begins; a pipe gets all of it.
        const int OnTerminal = 25;
        var table = new Table(">Image", "Path", "Problem");
        foreach (var damage in list.Take(Console.IsOutputRedirected ? int.MaxValue : OnTerminal))
            table.Row(damage.Image == 0 ? "-" : $"{damage.Image}", damage.Path,
                AdviceText.With(damage.Problem, damage.Advice));
        table.Print(session);
        if (!Console.IsOutputRedirected && list.Count > OnTerminal)
            Session.Line($"and {Text.Number(list.Count - OnTerminal)} more; `vembar verify {archive} | less` shows all of them.");
    }
}
