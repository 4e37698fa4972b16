using System.Diagnostics;
using Vembar.Common;
using Vembar.Images.Editing;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Operations.Survey;
using Vembar.Store.Hashing;
using Vembar.Store.Reading;
using Vembar.Volumes.Compaction;
using Vembar.Volumes.Disks;
using Vembar.Volumes.Sources;
using Vembar.Volumes.Targets;
using Vembar.Windows.Install;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Answers;

namespace Vembar.Operations.Deploy;

/// <summary>Writes an image into a folder, onto a disk or into a volume.</summary>
public static class DeployOperation
{
    /// <summary>Checks everything that can be checked, then writes.</summary>
    /// <exception cref="VembarException">Something is in the way; what was written is taken away again.</exception>
    /// <exception cref="OperationCanceledException">It was interrupted; what was written is taken away again.</exception>
    public static DeployResult Run(DeployRequest request, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var clock = Stopwatch.StartNew();
        var problems = new List<VembarException>();
        using var archive = Checks.Collect(problems, () => ArchiveReader.Open(request.Image.Archive));
        var image = archive is null ? null : Checks.Collect(problems, () => archive.Find(request.Image.Which));
        var isDisk = request.Size is not null || request.Volume is not null || request.Layout is not null || request.MayErase is not null
            || (Path.Exists(request.Target) ? !Directory.Exists(request.Target) : IsDiskName(request.Target));
        var layout = isDisk && request.Volume is null ? Checks.Collect(problems, () => DiskLayout.Named(request.Layout ?? "uefi")) : null;
        Checks.Collect(problems, () =>
        {
            if (isDisk)
                TargetChecks.Disk(request, archive);
            else
                TargetChecks.Folder(request);
            return "";
        });
        if (!isDisk && request.Compact != CompactionChoice.None)
            problems.Add(new VembarException(ErrorKind.Usage, "compact-where", "a folder of Linux keeps no compacted files",
                Advice.Of("compact-where")));
        if (request.ComputerName is { } name && AnswerFile.ComputerNameProblem(name) is { } problem)
            problems.Add(new VembarException(ErrorKind.Usage, "bad-computer-name", problem, "Use up to 15 letters, digits and hyphens, "
                + "not digits alone."));
        Checks.Throw(problems);

        var warnings = new List<string>();
        var tree = new ImageTree(archive!, image!.Root, $"{archive!.Path}#{image.Number}");
        var editor = new TreeEditor(tree);
        if (request.Answers is not null || request.ComputerName is not null)
            ApplyMachineSettings(request, editor, warnings);
        FillIn(request, editor, warnings, isDisk);

        if (isDisk)
            return OntoDisk(request, layout, archive, image, tree, editor, warnings, clock, progress, cancellation);
        return IntoFolder(request, archive, image, tree, editor, warnings, clock, progress, cancellation);
    }

    private static DeployResult IntoFolder(
        DeployRequest request, ArchiveReader archive, ImageRecord image, ImageTree tree, TreeEditor editor, List<string> warnings,
        Stopwatch clock,
        IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var made = !Directory.Exists(request.Target);
        FolderTarget? target = null;
        try
        {
            if (made)
                Directory.CreateDirectory(request.Target);
            target = new FolderTarget(request.Target, editor, tree, archive, request.KeepExisting, JournalKey(image, editor));
            progress.Report(new OperationProgress("looking", 0, 0, false, ""));
            using var pause = request.Host.Memory.BeginKeeping();
            target.Plan(cancellation);
            if (!request.SkipRoomCheck && !request.KeepExisting && !target.IsResuming)
                TargetChecks.Room(request.Target, target.BytesToWrite);
            request.Host.Memory.EndPhase(image.Files);
            target.Write((done, total, current) => progress.Report(new OperationProgress("writing files", done, total, true, current)),
                cancellation);
            var differences = request.Verify
                ? target.Verify((done, total,
                current) => progress.Report(new OperationProgress("reading back", done, total, true, current)), cancellation) : [];
            if (target.Lost.Count > 0)
                warnings.Add($"this file system cannot keep: "
                    + $"{string.Join(", ", target.Lost.OrderBy(l => l.Key, StringComparer.Ordinal).Select(l => $"{l.Key} ({l.Value})"))}");
            var kept = target.Kept.ToList();
            TellKept(request, kept.Count, warnings);
            return new DeployResult(image, request.Target, target.Files, target.Bytes, clock.Elapsed.TotalSeconds, kept, differences,
                request.Verify, warnings, target.Resumed, []);
        }
        catch (Exception failure)
        {
            if (made && Directory.Exists(request.Target) && !Directory.EnumerateFileSystemEntries(request.Target).Any())
                Directory.Delete(request.Target);
            var cause = failure is AggregateException { InnerExceptions: [var first, ..] } ? first : failure;
            var left = target is null ? "" : target.Left(request.Target);
            if (left.Length > 0
                && Wrap(cause, "write into", request.Target, left, "Run the same command again to go on, or remove it.") is { } told)
                throw told;
            if (cause is not VembarException && VembarException.From(cause, "write into", request.Target) is { } error)
                throw error;
            if (cause != failure)
                System.Runtime.ExceptionServices.ExceptionDispatchInfo.Throw(cause);
            throw;
        }
        finally
        {
            target?.Dispose();
        }
    }

    private static void TellKept(DeployRequest request, int kept, List<string> warnings)
    {
        if (kept > 0 && request.Verify)
            warnings.Add($"{kept} {(kept == 1 ? "file that was kept was" : "files that were kept were")} not compared with the image");
    }

    // What happened, with what it left behind; null when it is nothing that a user can cause.
    private static VembarException? Wrap(Exception cause, string doing, string target, string left, string hint) => cause switch
    {
        OperationCanceledException =>
            new VembarException(ErrorKind.Environment, VembarException.Interrupted, $"interrupted; {left}", hint, null, cause),
        VembarException own =>
            new VembarException(own.Kind, own.Code, $"{own.Message}; {left}", own.Hint.Length > 0 ? $"{own.Hint} {hint}" : hint,
            own.Details, own)
            {
                Advice = own.Advice,
            },
        _ => VembarException.From(cause, doing, target) is { } error
            ? new VembarException(error.Kind, error.Code, $"{error.Message}; {left}",
            error.Hint.Length > 0 ? $"{error.Hint} {hint}" : hint, error.Details, cause)
            {
                Advice = error.Advice,
            } : null,
    };

    private static DeployResult OntoDisk(
        DeployRequest request, DiskLayout? layout, ArchiveReader archive, ImageRecord image, ImageTree tree, TreeEditor editor,
        List<string> warnings, Stopwatch clock,
        IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var isNew = request.Size is not null;
        var install = new ServiceContext(editor).Install;
        var into = isNew || request.MayErase is not null ? null : GivenVolume(request.Target, request.Volume!.Value);
        // What this run has done to the disk, so that it takes back that and nothing else.
        bool isMade = false, isErased = false, complete = false;
        NtfsTarget? files = null;
        try
        {
            using var disk = isNew ? DiskImage.Create(request.Target, FormatFor(request.Target), request.Size!.Value, () => isMade = true)
                : DiskImage.Open(request.Target, write: true);
            using var target = new DiskTarget(disk);
            long start, length;
            string displayName;
            if (into is not null)
                (start, length, displayName) = (into.Start, into.Length, $"volume {into.Number} of '{request.Target}'");
            else
            {
                progress.Report(new OperationProgress("preparing the disk", 0, 0, false, ""));
                target.Prepare(layout!, editor, install, cancellation);
                (start, length, displayName) =
                    (target.Windows.Start, target.Windows.Length, $"partition {target.Windows.Number} of '{request.Target}'");
                using (var prepared = target.OpenPrepared())
                    new NtfsTarget(prepared, editor, tree, archive, keepExisting: false, request.SkipRoomCheck, null).Plan(cancellation);
                if (request.MayErase is { } mayErase && !mayErase(OnTheDisk(request.Target, disk, progress, cancellation)))
                    throw VembarException.Input("not-confirmed", $"'{request.Target}' was not erased: that was not confirmed",
                        "Nothing was changed.");
                progress.Report(new OperationProgress("dividing and formatting", 0, 0, false, ""));
                cancellation.ThrowIfCancellationRequested();
                isErased = !isNew;
                target.Divide(cancellation);
            }
            using (var volume = target.OpenVolume(start, length, displayName))
            {
                files = new NtfsTarget(volume, editor, tree, archive, request.KeepExisting && into is not null, request.SkipRoomCheck,
                    into is null ? null : JournalKey(image, editor), request.Compact);
                if (into is not null && !request.KeepExisting && !files.IsResuming)
                    CheckEmpty(volume, displayName);
                files.Plan(cancellation);
                try
                {
                    files.Write((done, total,
                        current) => progress.Report(new OperationProgress("writing files", done, total, true, current)), cancellation);
                }
                finally
                {
                    // Also what was written so far is to be found.
                    progress.Report(new OperationProgress("finishing the volume", 0, 0, false, ""));
                    volume.Close();
                }
            }
            IReadOnlyList<string> differences = [];
            if (request.Verify)
            {
                using var source = target.OpenWritten(start, length, displayName);
                differences = files.Verify(source,
                    (done, total, current) => progress.Report(new OperationProgress("reading back", done, total, true, current)),
                        cancellation);
            }
            warnings.AddRange(target.Warnings);
            if (files.Lost.Count > 0)
                warnings.Add($"an NTFS volume cannot keep, or this deployment did not: "
                    + $"{string.Join(", ", files.Lost.OrderBy(l => l.Key, StringComparer.Ordinal).Select(l => $"{l.Key} ({l.Value})"))}");
            var volumes = into is null ? target.Volumes
                : [new WrittenVolume(into.Number, "windows", into.Start, into.Length, FileSystem.Ntfs, into.FileSystem.Label)];
            disk.Finish();
            complete = true;
            var kept = files.Kept.ToList();
            TellKept(request, kept.Count, warnings);
            return new DeployResult(image, request.Target, files.Files, files.Bytes, clock.Elapsed.TotalSeconds, kept, differences,
                request.Verify, warnings, files.Resumed, volumes)
            { Compacted = files.Compacted };
        }
        catch (Exception failure)
        {
            var (left, hint) = isErased
                ? ($"the disk '{request.Target}' was erased before that: what was on it is lost, and it holds nothing that can be used",
                "Run it again, or put back what was there from a copy.")
                : into is not null && files?.Left() is { Length: > 0 } written
                ? ($"volume {into.Number} of '{request.Target}' holds {written}", "Run the same command again to go on.") : ("", "");
            if (left.Length > 0 && Wrap(failure, "write", request.Target, left, hint) is { } told)
                throw told;
            if (failure is not VembarException && VembarException.From(failure, "write", request.Target) is { } error)
                throw error;
            throw;
        }
        finally
        {
            // A disk that looks finished and is not is worse than none.
            if (!complete && isMade)
                File.Delete(request.Target);
            else if (!complete && isErased)
                EraseTable(request.Target);
        }
    }

    // What will be lost; also of a disk whose table is damaged, which is a reason to erase it.
    private static SurveyResult OnTheDisk(string path, DiskImage disk, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        try
        {
            return SurveyOperation.Run(path, progress, cancellation);
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
        {
            return new SurveyResult(path,
                new SurveyedDisk("none", disk.Format.ToString().ToLowerInvariant(), disk.Length, disk.SectorSize), [], [problem.Message]);
        }
    }

    private static void EraseTable(string path)
    {
        try
        {
            using var disk = DiskImage.Open(path, write: true);
            using var device = disk.OpenDevice();
            var zeros = new byte[DiskLayout.Alignment];
            device.Write(zeros, 0);
            device.Write(zeros, device.Length - zeros.Length);
            device.Flush();
        }
        catch (Exception failure) when (failure is VembarException or Native.NativeException)
        {
            // It could not be written before either.
        }
    }

    private static DiskVolume GivenVolume(string path, int number)
    {
        using var disk = Disk.Open(path);
        var volume = disk.Volumes.FirstOrDefault(v => v.Number == number)
            ?? throw VembarException.Input("no-such-volume", $"'{path}' has no volume {number}", "Choose one of these.",
            [.. disk.Volumes.Select(v => $"volume {v.Number}: {v.FileSystem.Kind}, {v.Length >> 20} MiB")]);
        if (volume.FileSystem.Kind != FileSystem.Ntfs)
            throw VembarException.Input("not-ntfs", $"volume {number} of '{path}' is not an NTFS volume ({volume.FileSystem.Kind})",
                Advice.Of("not-ntfs"));
        using var source = ResolvedSource.OpenVolume(disk, volume);
        return !source.IsDirty && source.IsJournalClean ? volume : throw DiskTarget.InUse($"volume {number} of '{path}'");
    }

    private static void CheckEmpty(Native.NtfsVolume volume, string displayName)
    {
        using var root = volume.Open(Native.NtfsVolume.Root, "/");
        var names = root.Names()
            .Where(n => (n.Reference & 0xFFFFFFFFFFFF) >= Native.NtfsVolume.FirstUserFile
                && n.Name is not ("System Volume Information" or "$RECYCLE.BIN")).Select(n => n.Name).ToList();
        if (names.Count > 0)
            throw VembarException.Input("target-not-empty",
                $"{displayName} is not empty: it holds "
                + $"{string.Join(", ", names.Take(5))}{(names.Count > 5 ? $" and {names.Count - 5} more" : "")}",
                Advice.Of("volume-not-empty"));
    }

    // Nobody means a folder of such a name.
    internal static bool IsDiskName(string path) =>
        Path.GetExtension(path).ToLowerInvariant() is ".vhdx" or ".vhd" or ".qcow2" or ".vmdk" or ".img" or ".raw";

    /// <summary>The format that a new disk image's name asks for.</summary>
    internal static DiskFormat FormatFor(string path) => Path.GetExtension(path).ToLowerInvariant() switch
    {
        ".vhdx" => DiskFormat.Vhdx,
        ".vhd" => DiskFormat.Vhd,
        ".qcow2" => DiskFormat.Qcow2,
        ".vmdk" => DiskFormat.Vmdk,
        _ => DiskFormat.Raw,
    };

    private static void ApplyMachineSettings(DeployRequest request, TreeEditor editor, List<string> warnings)
    {
        var context = new ServiceContext(editor);
        if (context.Install is not { } install)
            throw VembarException.Input("no-windows",
                $"{editor.DisplayName} holds no Windows, so it takes no answer file and no computer name",
                Advice.Of("not-windows"));
        if (request.Answers is not null)
        {
            var outcome = new AnswersChange(request.Answers).Apply(context).Single();
            if (outcome.Status == ChangeStatus.Refused)
                throw VembarException.Input("bad-answer-file", outcome.Why, $"Mend '{request.Answers}' and run it again.");
        }
        if (request.ComputerName is null)
            return;
        if (install.State is not ("generalized" or "generalized-audit"))
            warnings.Add($"the install is {install.State}, not generalized: Windows reads the computer name from the answer file only "
                + $"at the first start of a generalized install");
        var path = context.Windows(AnswersChange.Place);
        var answers = editor.ReadFile(path, AnswerFile.Longest) is { } bytes ? AnswerFile.Parse(bytes, path.ToString())
            : AnswerFile.Empty();
        answers.SetComputerName(request.ComputerName, install.Architecture);
        var changed = answers.ToBytes();
        editor.PutFile(path, new NewContent(changed, null, changed.Length));
    }

    // A machine that meets {{serial}} stops at its first start and asks.
    private static void FillIn(DeployRequest request, TreeEditor editor, List<string> warnings, bool isDisk)
    {
        var path = WindowsInstall.FindFolder(editor) is { } windows
            ? WindowsPath.Root.Child(windows).Append(WindowsPath.Parse(AnswersChange.Place)) : null;
        var bytes = path is null ? null : editor.ReadFile(path, AnswerFile.Longest);
        var answers = bytes is not null && bytes.AsSpan().IndexOf("{{"u8) >= 0 ? AnswerFile.Parse(bytes, path!.ToString()) : null;
        var wanted = answers?.Placeholders ?? [];
        if (request.Fill.Keys.FirstOrDefault(n => !wanted.Contains(n)) is { } unknown)
        {
            throw VembarException.Input("no-such-placeholder", $"the answer file of {editor.DisplayName} has no {{{{{unknown}}}}}",
                wanted.Count > 0 ? Advice.Of("known-placeholders", ("value", string.Join(", ", wanted.Select(w => $"{{{{{w}}}}}"))))
                : bytes is null ? Advice.Of("no-answer-file") : Advice.Of("no-placeholders"));
        }
        if (answers is null || wanted.Count == 0)
            return;
        answers.Fill(request.Fill);
        if (request.Fill.Count > 0)
        {
            var changed = answers.ToBytes();
            editor.PutFile(path!, new NewContent(changed, null, changed.Length));
        }
        if (answers.Placeholders is not { Count: > 0 } left)
        {
            if (answers.Check(null).FirstOrDefault(f => f.IsError) is { } wrong)
                throw VembarException.Input("bad-answer-file", $"with what was filled in, the answer file is not right: {wrong.Text}",
                    Advice.Of("bad-answer-file"));
        }
        else
        {
            var what = $"the answer file still has {string.Join(", ", left.Select(w => $"{{{{{w}}}}}"))}";
            if (isDisk)
                throw VembarException.Input("placeholders-left", $"{what}, and the machine would stop at it at its first start",
                    Advice.Of("placeholders-left", ("names", string.Join(' ', left))));
            warnings.Add(what);
        }
    }

    // What tells a deployment from others: the image and what the machine's own answer file makes of it.
    private static string JournalKey(ImageRecord image, TreeEditor editor)
    {
        var answers = WindowsInstall.FindFolder(editor) is { } windows
            ? editor.ReadFile(WindowsPath.Root.Child(windows).Append(WindowsPath.Parse(AnswersChange.Place)), AnswerFile.Longest) : null;
        return $"{image.Root}{(answers is null ? "" : $" {Blake3.Hash(answers)}")}";
    }
}
