using System.CommandLine;
using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.Verify;
using Vembar.Store.Places;

namespace Vembar.Cli.Commands.Verify;

internal static class VerifyCommand
{
    public static VembarCommand Create()
    {
        var archive = SharedOptions.Archive("The archive");
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
        var signers = SharedOptions.SignedBy();
        var wait = SharedOptions.Wait();
        return new VembarCommand("verify", "Read an archive whole and check every byte; name damaged images and files; heal or recover",
            "vembar verify desks.vmb", "vembar verify desks.vmb --repair-from /mnt/copy/desks.vmb",
            "vembar verify broken.vmb --recover saved.vmb")
            .With(archive, signers, repair, recover, giveUp, wait, SharedOptions.Base).Does(async (parse, session) =>
            {
                var path = SharedOptions.PlaceOf(parse, archive, session);
                var others = parse.GetRequiredValue(repair);
                if (parse.GetValue(giveUp))
                {
                    if (others.Length > 0 || parse.GetValue(recover) is not null)
                        throw new VembarException(ErrorKind.Usage, "give-up-or-save",
                            "--give-up-newer excludes --repair-from and --recover", "Recover or repair first.");
                    var left = await session.Do(new GiveUpTailHandler(session.Host),
                        new GiveUpTailRequest(path, TimeSpan.FromSeconds(parse.GetValue(wait))));
                    session.Result(Json(left), json => json.VerifyJson, () => Show(left, session));
                    return left.Ok ? ExitCode.Done : ExitCode.NotInOrder;
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
                session.Result(Json(result), json => json.VerifyJson, () => Show(result, session));
                return result.Ok ? ExitCode.Done : ExitCode.NotInOrder;
            });
    }

    private static DamageJson From(Damage damage) => new(damage.Image == 0 ? null : damage.Image, damage.Path,
        AdviceText.With(damage.Problem, damage.Advice));

    private static VerifyJson Json(VerifyResult result) => new(
        result.Archive, result.Ok, result.Blocks, result.Bytes, result.UncommittedTail, result.Seconds, [.. result.Damage.Select(From)],
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
            Session.Line($"{result.Archive} is in order: {Text.Size(result.Bytes)} in {Text.Count(result.Blocks, "block")} read in "
                + $"{Text.Duration(result.Seconds)}, every byte as it should be.");
            foreach (var based in result.Bases)
                Session.Line($"It is based on {based}, which holds all that is needed of it; `vembar verify {based}` reads that one.");
            return;
        }
        if (result.Damage.Count == 0)
        {
            var (subject, them) = result.Images == 1 ? ("The image is", "it") : ($"All {Text.Count(result.Images, "image")} are", "them");
            var tail = result.UncommittedTail > 0
                ? $"; {Text.Size(result.UncommittedTail)} of an interrupted run, or of a file that was cut "
                + $"short, lie behind {them}. The next change removes them" : "";
            Session.Line($"{subject} whole{tail}.");
        }
        else if (result.UncommittedTail > 0)
            Session.Line($"The last {Text.Number(result.UncommittedTail)} bytes belong to no finished state: a run was interrupted, or "
                + $"the file was cut short. The next change removes them.");
        if (result.IsRecordSingle)
            Session.Line("The last run was interrupted between the two copies of its record; it is done, and the next change adds the "
                + "second copy.");
        if (result.Damage.Count == 0)
            return;
        Session.Line($"{result.Archive} is damaged: {Text.Count(result.Damage.Count, "problem")}.");
        Session.Line();
        Table(result.Damage, session, result.Archive);
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
