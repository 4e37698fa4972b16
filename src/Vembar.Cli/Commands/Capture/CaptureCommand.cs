using System.CommandLine;
using Vembar.Cli.Json;
using Vembar.Common;
using Vembar.Common.Files;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.Capture;
using Vembar.Operations.Verify;

namespace Vembar.Cli.Commands.Capture;

internal static class CaptureCommand
{
    public static VembarCommand Create()
    {
        var source = SharedOptions.Source();
        var volume = SharedOptions.Volume();
        var skip = new Option<bool>("--skip-unreadable")
        {
            Description = "Leave out files that cannot be read, and name them, instead of failing",
        };
        var damaged = SharedOptions.AcceptDamaged();
        var chain = SharedOptions.AllowChain();
        var archive = SharedOptions.Archive("The archive that the image goes into; made when there is none");
        var name = new Option<string>("--name") { Description = "The image's name", HelpName = "NAME", Required = true };
        var edition = new Option<string?>("--edition")
        {
            Description = "The edition, where it is not the install's own",
            HelpName = "TEXT",
        };
        var version = new Option<string>("--version")
        {
            Description = "Your version of it; otherwise the next one, where there is an image of that name",
            HelpName = "TEXT",
            DefaultValueFactory = _ => "",
        };
        var note = new Option<string>("--note") { Description = "A remark", HelpName = "TEXT", DefaultValueFactory = _ => "" };
        var labels = new Option<string[]>("--label")
        {
            Description = "A label of your own; may be given several times",
            HelpName = "KEY=VALUE",
            DefaultValueFactory = _ => [],
        };
        var effort = SharedOptions.Effort();
        var leaveOut = new Option<string[]>("--leave-out")
        {
            Description = "Leave out what matches, beside what Windows recreates; '*', '?' and '**' match; may be given several times",
            HelpName = "PATTERN",
            DefaultValueFactory = _ => [],
        };
        var leaveOutFile = new Option<string?>("--leave-out-file")
        {
            Description = "Leave out what the patterns in FILE match, one a line, '#' begins a remark; '-' reads standard input",
            HelpName = "FILE",
        };
        var keepAll = new Option<bool>("--keep-all")
        {
            Description = "Take also what Windows recreates (page file, temporary files, recycle bin)",
        };
        var basedOn = new Option<string?>("--based-on")
        {
            Description = "Store only what the archive OTHER lacks; reading then needs OTHER beside the archive or under --base",
            HelpName = "OTHER",
        };
        var verify = new Option<bool>("--verify") { Description = "Read the whole archive afterwards and check every byte" };
        var reread = new Option<bool>("--reread")
        {
            Description = "Read every file, also those that an earlier image of this folder has unchanged",
        };
        var accept = new Option<bool>("--accept-unready")
        {
            Description = "Capture although the readiness checks stand against it; what they found is kept with the image",
        };
        var rules = SharedOptions.Rules();
        var skipRoom = SharedOptions.SkipRoomCheck();
        var wait = SharedOptions.Wait();
        return new VembarCommand("capture", "Make an image of a generalized install and add it to an archive",
            "vembar capture vembar-demo/references/lending-desk desks.vmb --name \"Lending desk\" --version 2026.09",
            "vembar capture vembar-demo/references/reading-room desks.vmb --name \"Reading room\" --effort dense --verify",
            "vembar capture /mnt/reference desks.vmb --name Bookmobile --leave-out \"**/*.iso\" --label site=valley",
            "vembar capture vembar-demo/references/bookmobile bookmobile.vmb --name Bookmobile --based-on desks.vmb")
            .With(source, archive)
            .WithSection("The image", name, edition, version, note, labels)
            .WithSection("What is taken", leaveOut, leaveOutFile, keepAll, volume, skip, damaged, chain, reread)
            .WithSection("What is looked at", accept, rules, verify)
            .WithSection("The archive", effort, basedOn, skipRoom, wait, SharedOptions.Base)
            .Does(async (parse, session) =>
            {
                if (ImageReference.IsImage(parse.GetRequiredValue(source)) && parse.GetValue(archive) is { } other && Path.Exists(other)
                    && !ImageReference.IsImage(other))
                    throw new VembarException(ErrorKind.Usage, "operands-swapped",
                        $"'{parse.GetRequiredValue(source)}' is an archive, and stands where the source belongs",
                        $"The source comes first: vembar capture {other} {parse.GetRequiredValue(source)}");
                var request = new CaptureRequest
                {
                    Source = parse.GetRequiredValue(source),
                    Archive = SharedOptions.PlaceOf(parse, archive, session),
                    Name = parse.GetRequiredValue(name),
                    Volume = parse.GetValue(volume),
                    SkipUnreadable = parse.GetValue(skip),
                    Reading = SharedOptions.Reading(parse, chain, damaged),
                    BasedOn = parse.GetValue(basedOn),
                    Edition = parse.GetValue(edition),
                    Version = SharedOptions.VersionOf(parse.GetRequiredValue(version), session)!,
                    Note = parse.GetRequiredValue(note),
                    Labels = SharedOptions.Pairs(parse.GetRequiredValue(labels), "--label", "KEY=VALUE"),
                    Effort = SharedOptions.EffortOf(parse.GetRequiredValue(effort)),
                    LeaveOut = [.. parse.GetRequiredValue(leaveOut), .. Patterns(parse.GetValue(leaveOutFile))],
                    KeepAll = parse.GetValue(keepAll),
                    AcceptUnready = parse.GetValue(accept),
                    Rules = SharedOptions.RulesOf(parse, rules, session),
                    Reread = parse.GetValue(reread),
                    SkipRoomCheck = parse.GetValue(skipRoom),
                    Wait = TimeSpan.FromSeconds(parse.GetValue(wait)),
                };
                var result = await session.Do(new CaptureHandler(session.Host), request);
                var verified = parse.GetValue(verify) ? await VerifyAsync(request, result, session).ConfigureAwait(false) : null;
                session.Warn(result.Warnings);
                session.Result(CliJson.From(result, verified?.Ok), json => json.StoreJson, () => Show(result, verified));
                return verified is { Ok: false } ? ExitCode.NotInOrder : ExitCode.Done;
            });
    }

    private static async Task<VerifyResult> VerifyAsync(CaptureRequest request, CaptureResult result, Session session)
    {
        try
        {
            return await session.Do(new VerifyHandler(session.Host), new VerifyRequest(request.Archive));
        }
        catch (OperationCanceledException)
        {
            throw new VembarException(
                ErrorKind.Environment, VembarException.Interrupted,
                $"interrupted while verifying; image {result.Image.Number} \"{result.Image.Name}\" is in {result.Archive}",
                $"Verify it with `vembar verify {result.Archive}`.");
        }
    }

    private static IEnumerable<string> Patterns(string? file) =>
        SharedOptions.LinesOf(file).Select(l => l.Trim()).Where(l => l.Length > 0 && l[0] != '#');

    private static void Show(CaptureResult result, VerifyResult? verified)
    {
        var (image, stats) = (result.Image, result.Stats);
        Session.Line($"Image {image.Number} {image.Title} is in {result.Archive}.");
        Session.Line();
        if (image.Product.Length > 0)
        {
            var edition = image.Product.Contains(image.Edition, StringComparison.OrdinalIgnoreCase) ? "" : $", {image.Edition}";
            Session.Line($"  {image.Product}{edition}, build {image.Build}, {image.Architecture}, {string.Join(", ", image.Languages)}");
        }
        var share = stats.BytesSeen > 0 ? $" ({100.0 * stats.BytesNew / stats.BytesSeen:0.0} %)" : "";
        Session.Line($"  {Text.Count(stats.FilesSeen, "file")}, {Text.Size(stats.BytesSeen)}; {Text.Size(stats.BytesNew)} of it were "
            + $"new{share}");
        if (stats.FilesRead < stats.FilesSeen && stats.BytesRead < stats.BytesSeen)
            Session.Line($"  {Text.Size(stats.BytesRead)} in {Text.Count(stats.FilesRead, "file")} were read; the others are as an "
                + $"earlier image of this folder has them, or second names");
        Session.Line($"  the archive grew by "
            + $"{Text.Size(stats.BytesStored)}{(result.Image.BytesAdded == 0 ? ", records and index alone" : "")}");
        if (stats.Seconds >= 0.05)
            Session.Line($"  took {Text.Duration(stats.Seconds)}, {Text.Size((long)(stats.BytesSeen / stats.Seconds))}/s");
        foreach (var finding in (image.Findings ?? []).Where(f => f.Severity != Severity.Note))
            Session.Line($"  {finding.Severity.ToString().ToLowerInvariant()}  {finding.Check}: {Text.Safe(finding.Text)}");
        if (result.Excluded.Count > 0)
        {
            Session.Line();
            Session.Line("Left out:");
            foreach (var rule in result.Excluded.GroupBy(l => l.Rule))
            {
                const int Named = 3;
                var more = rule.Count() > Named ? $" and {rule.Count() - Named} more" : "";
                var paths = string.Join(", ", rule.Take(Named).Select(l => l.Path));
                Session.Line(rule.Count() > 1 || rule.First().Path != rule.Key ? $"  {rule.Key}: {paths}{more}" : $"  {rule.Key}");
            }
        }
        if (verified is not null)
        {
            Session.Line();
            Session.Line(verified.Ok ? $"Verified: every byte of {Text.Size(verified.Bytes)} is as it should be."
                : $"Verifying found {Text.Count(verified.Damage.Count, "problem")}; run `vembar verify {result.Archive}`.");
        }
    }
}
