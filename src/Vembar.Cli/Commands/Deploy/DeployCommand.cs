using System.CommandLine;
using Vembar.Common;
using Vembar.Common.Formats;
using Vembar.Operations;
using Vembar.Operations.Deploy;
using Vembar.Operations.Survey;
using Vembar.Volumes.Compaction;
using Vembar.Volumes.Targets;

namespace Vembar.Cli.Commands.Deploy;

internal static class DeployCommand
{
    public static VembarCommand Create()
    {
        var image = SharedOptions.Image();
        var target = new Argument<string>("TARGET")
        {
            Description = "A folder, a disk image (new with --size; .vhdx, .vhd, .qcow2, .vmdk, else raw) or a block device",
        };
        var keep = new Option<bool>("--keep-existing")
        {
            Description = "The folder or volume may hold files; those are left as they are",
        };
        var size = new Option<string?>("--size")
        {
            Description = "Make a new disk image of this size, for instance \"64 GiB\"",
            HelpName = "SIZE",
        };
        var layout = new Option<string?>("--layout")
        {
            Description = "How the disk is divided: uefi (the default), bios, or a YAML file",
            HelpName = "uefi|bios|FILE",
        };
        var volume = new Option<int?>("--volume")
        {
            Description = "Deploy into this volume of a disk that is there, instead of dividing it",
            HelpName = "N",
        };
        var erase = new Option<bool>("--erase") { Description = "Divide a disk that is there anew: all that is on it is lost; asks first" };
        var confirm = new Option<string?>("--confirm")
        {
            Description = "Answers that question beforehand: the target once more, as it was given",
            HelpName = "TARGET",
        };
        var answers = new Option<string?>("--answers") { Description = "Give this machine an answer file of its own", HelpName = "FILE" };
        var name = new Option<string?>("--computer-name")
        {
            Description = "The name that this machine's answer file gives it",
            HelpName = "NAME",
        };
        var fill = new Option<string[]>("--fill")
        {
            Description = "A text for what stands between {{ and }} in the answer file; may be given several times",
            HelpName = "NAME=TEXT",
            DefaultValueFactory = _ => [],
        };
        var compact = new Option<string?>("--compact")
        {
            Description = "Write files compacted, as Windows reads them: those that the reference kept so (kept), or all program files "
            + "too (programs)",
            HelpName = "kept|programs",
            Arity = ArgumentArity.ZeroOrOne,
        }.AcceptOnlyFromAmong("kept", "programs");
        var signers = SharedOptions.SignedBy();
        var misfit = new Option<bool>("--accept-misfit")
        {
            Description = "Write the disk although the image would not start from it: it lacks boot files for that layout",
        };
        var verify = new Option<bool>("--verify") { Description = "Read everything back and compare" };
        var skipRoom = SharedOptions.SkipRoomCheck();
        return new VembarCommand("deploy", "Write an image onto a disk that then starts, into a volume, or into a folder",
            "vembar deploy desks.vmb#\"Lending desk\" desk-014.vhdx --size \"64 GiB\" --computer-name TVL-DESK-014",
            "vembar deploy desks.vmb#\"Lending desk\" /dev/sdb --erase --layout uefi --verify",
            "vembar deploy desks.vmb#\"Lending desk\" /mnt/target --verify",
            "vembar deploy desks.vmb#1 /mnt/target --computer-name TVL-DESK-014 --keep-existing")
            .With(image, target)
            .WithSection("The disk", size, layout, volume, erase, confirm)
            .WithSection("The install", name, answers, fill, keep, compact)
            .WithSection("What is looked at", verify, signers, misfit, skipRoom, SharedOptions.Base, SharedOptions.AtState)
            .Does(async (parse, session) =>
            {
                if (ImageReference.IsImage(parse.GetRequiredValue(target)) && !ImageReference.IsImage(parse.GetRequiredValue(image)))
                    throw new VembarException(ErrorKind.Usage, "operands-swapped",
                        $"'{parse.GetRequiredValue(target)}' is an image, and stands where the target belongs",
                        $"The image comes first: vembar deploy {parse.GetRequiredValue(target)} {parse.GetRequiredValue(image)}");
                var result = await session.Do(new DeployHandler(session.Host),
                    new DeployRequest
                    {
                        Image = SharedOptions.ImageOf(parse, image, session),
                        Target = parse.GetRequiredValue(target),
                        KeepExisting = parse.GetValue(keep),
                        Size = SizeOf(parse.GetValue(size)),
                        Layout = parse.GetValue(layout),
                        Volume = parse.GetValue(volume),
                        MayErase = parse.GetValue(erase) ? found => MayErase(found, parse.GetValue(confirm)) : null,
                        Answers = parse.GetValue(answers),
                        ComputerName = parse.GetValue(name),
                        Fill = SharedOptions.Pairs(parse.GetRequiredValue(fill), "--fill"),
                        Compact = parse.GetResult(compact) is null ? CompactionChoice.None
                        : parse.GetValue(compact) == "programs" ? CompactionChoice.Programs : CompactionChoice.Kept,
                        SignedBy = SharedOptions.SignersOf(parse, signers, session),
                        AcceptMisfit = parse.GetValue(misfit),
                        Verify = parse.GetValue(verify),
                        SkipRoomCheck = parse.GetValue(skipRoom),
                    });
                session.Warn(result.Warnings);
                session.Result(
                    new DeployJson(result.Image, result.Target, result.Files, result.Bytes, result.Seconds,
                        [.. result.Volumes.Select(v => new WrittenVolumeJson(v.Number, v.Role, v.Start, v.Bytes, v.FileSystem, v.Label))],
                        result.Kept, result.Verified, result.Differences, result.Warnings, result.Resumed, result.Compacted),
                    json => json.DeployJson, () => Show(result, session));
                return result.Differences.Count > 0 ? ExitCode.NotInOrder : ExitCode.Done;
            });
    }

    // A size too small for a disk is told as what was given.
    private static long? SizeOf(string? text) =>
        text is null ? null
        : ByteSize.TryParse(text, out var bytes)
        ? bytes < DiskLayout.Alignment ? bytes : bytes / DiskLayout.Alignment * DiskLayout.Alignment
        : throw new VembarException(ErrorKind.Usage, "bad-size", $"'{text}' is not a size", "Write for instance --size \"64 GiB\".");

    // Whoever erases a disk sees which one and what is on it, and names it once more.
    private static bool MayErase(SurveyResult found, string? confirmed)
    {
        if (confirmed is not null)
            return confirmed == found.Source;
        if (Console.IsInputRedirected || Console.IsErrorRedirected)
            throw new VembarException(ErrorKind.Usage, "not-confirmed", $"nobody is there to confirm that '{found.Source}' may be erased",
                $"Confirm it beforehand with --confirm {found.Source}");
        Console.Error.WriteLine();
        Console.Error.WriteLine($"'{found.Source}' ({Text.Size(found.Disk?.Bytes ?? 0)}) holds:");
        foreach (var volume in found.Volumes)
        {
            var installed = volume.Windows is { } windows ? $": {windows.Product}, {windows.ComputerName}" : "";
            Console.Error.WriteLine($"  {volume.Number}  {volume.FileSystem} {Text.Safe(volume.Label)}, "
                + $"{Text.Size(volume.Length)}{installed}");
        }
        foreach (var warning in found.Warnings)
            Console.Error.WriteLine($"  {Text.Safe(warning)}");
        Console.Error.Write($"All of it will be lost. To erase it, type {found.Source}: ");
        return Console.In.ReadLine()?.Trim() == found.Source;
    }

    private static void Show(DeployResult result, Session session)
    {
        Session.Line($"Image {result.Image.Number} \"{result.Image.Name}\" is in {result.Target}: {Text.Count(result.Files, "file")}, "
            + $"{Text.Size(result.Bytes)}, in {Text.Duration(result.Seconds)}.");
        if (result.Compacted.Files > 0)
            Session.Line($"{Text.Compacted(result.Compacted)}.");
        if (result.Resumed > 0)
            Session.Line($"It went on with a run that was broken off: {Text.Count(result.Resumed, "file")} of it were whole.");
        foreach (var volume in result.Volumes)
            Session.Line($"  {volume.Number}  {volume.Role,-9} {Text.Size(volume.Bytes),10}  {volume.FileSystem,-6} "
                + $"{Text.Safe(volume.Label)}");
        if (result.Kept.Count > 0)
        {
            Session.Line($"{Text.Count(result.Kept.Count, "file")} that {(result.Kept.Count == 1 ? "was" : "were")} there already "
                + $"{(result.Kept.Count == 1 ? "was" : "were")} kept{(session.Verbose ? ":" : "; --verbose names them.")}");
            foreach (var path in session.Verbose ? result.Kept : [])
                Session.Line($"  {Text.Safe(path)}");
        }
        if (result.Differences.Count > 0)
        {
            Session.Line($"Reading back found {Text.Count(result.Differences.Count, "difference")}:");
            foreach (var difference in result.Differences)
                Session.Line($"  {difference}");
        }
        else if (result.Verified)
            Session.Line(result.NotKept.Count == 0 ? "Read back and compared: all is as it is in the image."
                : "Read back and compared: all is as it is in the image, but for what was not carried over: "
                + string.Join(", ", result.NotKept.OrderBy(l => l.Key, StringComparer.Ordinal).Select(l =>
                    $"{l.Key} ({Text.Number(l.Value)})")) + ".");
    }
}
