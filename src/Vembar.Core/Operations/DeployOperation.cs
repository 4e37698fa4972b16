using System.Diagnostics;
using Vembar.Core.Archives;
using Vembar.Core.Disks;
using Vembar.Core.Servicing;
using Vembar.Core.Servicing.Answers;
using Vembar.Core.Sources;
using Vembar.Core.Targets;
using Vembar.Core.Trees;
using Vembar.Core.Windows;

namespace Vembar.Core.Operations;

/// <summary>Which image goes where, and how.</summary>
public sealed record DeployRequest
{
    /// <summary>The image.</summary>
    public required ImageReference Image { get; init; }

    /// <summary>A folder, made when there is none (but not the folders above it); a disk image or a block device.</summary>
    public required string Target { get; init; }

    /// <summary>Whether the folder or volume may hold files already; they are left as they are.</summary>
    public bool KeepExisting { get; init; }

    /// <summary>Makes a disk image of this many bytes; null for a target that is there, or a folder.</summary>
    public long? Size { get; init; }

    /// <summary>How the disk is divided: "uefi", "bios" or a file; null for "uefi".</summary>
    public string? Layout { get; init; }

    /// <summary>Deploys into this volume of a disk that is there, instead of dividing it.</summary>
    public int? Volume { get; init; }

    /// <summary>Asked before a disk that is there is erased, with what is on it; null refuses.</summary>
    public Func<SurveyResult, bool>? MayErase { get; init; }

    /// <summary>An answer file for this machine.</summary>
    public string? Answers { get; init; }

    /// <summary>The name that this machine's answer file gives it.</summary>
    public string? ComputerName { get; init; }

    /// <summary>Texts for what stands between {{ and }} in the answer file.</summary>
    public IReadOnlyDictionary<string, string> Fill { get; init; } = new Dictionary<string, string>();

    /// <summary>Whether to read everything back and compare.</summary>
    public bool Verify { get; init; }
}

/// <summary>What a deployment did.</summary>
/// <param name="Image">The image.</param>
/// <param name="Target">Where it went.</param>
/// <param name="Files">Files and links written.</param>
/// <param name="Bytes">Bytes written.</param>
/// <param name="Seconds">Time taken.</param>
/// <param name="Kept">Files that were there and were left as they are.</param>
/// <param name="Differences">What reading back found; empty when all is right or nothing was read back.</param>
/// <param name="Verified">Whether everything was read back.</param>
/// <param name="Warnings">What should be known.</param>
/// <param name="Volumes">The volumes of a disk that was written; empty for a folder.</param>
public sealed record DeployResult(
    ImageRecord Image, string Target, long Files, long Bytes, double Seconds, IReadOnlyList<string> Kept, IReadOnlyList<string> Differences, bool Verified, IReadOnlyList<string> Warnings,
    IReadOnlyList<WrittenVolume> Volumes);

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
        var isDisk = request.Size is not null || request.Volume is not null || request.Layout is not null || request.MayErase is not null || (Path.Exists(request.Target) ? !Directory.Exists(request.Target) : IsDiskName(request.Target));
        var layout = isDisk && request.Volume is null ? Checks.Collect(problems, () => DiskLayout.Named(request.Layout ?? "uefi")) : null;
        Checks.Collect(problems, () =>
        {
            if (isDisk)
                CheckDisk(request);
            else
                CheckTarget(request, image);
            return "";
        });
        if (request.ComputerName is { } name && AnswerFile.ComputerNameProblem(name) is { } problem)
            problems.Add(new VembarException(ErrorKind.Usage, "bad-computer-name", problem, "Use up to 15 letters, digits and hyphens, not digits alone."));
        Checks.Throw(problems);

        var warnings = new List<string>();
        var tree = new ImageTree(archive!, image!.Root, $"{archive!.Path}#{image.Number}");
        var editor = new TreeEditor(tree);
        if (request.Answers is not null || request.ComputerName is not null)
            Personalise(request, editor, warnings);
        FillIn(request, editor, warnings, isDisk);

        if (isDisk)
            return OntoDisk(request, layout, archive, image, tree, editor, warnings, clock, progress, cancellation);
        var made = !Directory.Exists(request.Target);
        try
        {
            if (made)
                Directory.CreateDirectory(request.Target);
            using var target = new FolderTarget(request.Target, editor, tree, archive, request.KeepExisting);
            progress.Report(new OperationProgress("looking", 0, 0, false, ""));
            using var pause = Collecting.Paused();
            target.Plan(cancellation);
            Collecting.After(image.Files);
            target.Write((done, total, current) => progress.Report(new OperationProgress("writing files", done, total, true, current)), cancellation);
            var differences = request.Verify
                ? target.Verify((done, total, current) => progress.Report(new OperationProgress("reading back", done, total, true, current)), cancellation) : [];
            if (target.Lost.Count > 0)
                warnings.Add($"this file system cannot keep: {string.Join(", ", target.Lost.OrderBy(l => l.Key, StringComparer.Ordinal).Select(l => $"{l.Key} ({l.Value})"))}");
            return new DeployResult(image, request.Target, target.Files, target.Bytes, clock.Elapsed.TotalSeconds, [.. target.Kept], differences, request.Verify, warnings, []);
        }
        catch (Exception failure)
        {
            if (made && Directory.Exists(request.Target) && !Directory.EnumerateFileSystemEntries(request.Target).Any())
                Directory.Delete(request.Target);
            var cause = failure is AggregateException { InnerExceptions: [var first, ..] } ? first : failure;
            if (cause is not VembarException && VembarException.From(cause, "write into", request.Target) is { } error)
                throw error;
            if (cause != failure)
                System.Runtime.ExceptionServices.ExceptionDispatchInfo.Throw(cause);
            throw;
        }
    }

    private static void CheckDisk(DeployRequest request)
    {
        if (Directory.Exists(request.Target))
            throw VembarException.Input("not-a-disk", $"the target '{request.Target}' is a folder, not a disk", "Leave out --size, --layout, --volume and --erase to deploy into the folder.");
        if (request.Volume is not null && (request.Size is not null || request.Layout is not null || request.MayErase is not null))
            throw new VembarException(ErrorKind.Usage, "volume-or-layout", "--volume deploys into a volume as it is; --size, --layout and --erase make the disk anew", "Give one or the other.");
        if (!Path.Exists(request.Target))
        {
            if (request.Volume is not null || request.Size is null)
                throw VembarException.Input("no-such-disk", $"there is no disk '{request.Target}'", request.Volume is not null ? "Check the path." : "Make a new disk image with --size, for instance --size \"64 GiB\".");
            var folder = Path.GetDirectoryName(Path.GetFullPath(request.Target));
            if (folder is null || !Directory.Exists(folder))
                throw VembarException.Input("no-such-folder", $"there is no folder '{folder}' to make the disk image '{request.Target}' in", "Check the path, or make the folder.");
            if (!Checks.MayWrite(folder))
                throw VembarException.Surroundings("no-permission", $"'{folder}' cannot be written", "Choose another target, or run as a user who may write there.");
            return;
        }
        if (request.Size is not null)
            throw VembarException.Input("target-exists", $"the target '{request.Target}' is there already, and --size makes a new disk image", "Name a file that is not there, or leave out --size and give --erase or --volume.");
        if (request.Volume is null && request.MayErase is null)
            throw VembarException.Input("target-exists", $"the target '{request.Target}' is there already, as a file or a disk", "Name a folder or a new file; or, when it is a disk: give --erase to divide it anew (all that is on it is lost), or --volume N to deploy into a volume of it.");
        if (UseOf(request.Target) is { } use)
            throw VembarException.Surroundings("disk-in-use", $"the disk '{request.Target}' is in use: {use}", "Unmount it first; and make sure that it is the disk you mean.");
        FileDevice.Open(request.Target, write: true).Dispose();
    }

    // What this machine itself does with a block device or a partition of it; null for nothing.
    private static string? UseOf(string path)
    {
        var real = File.ResolveLinkTarget(path, returnFinalTarget: true)?.FullName ?? Path.GetFullPath(path);
        var about = $"/sys/class/block/{Path.GetFileName(real)}";
        if (!real.StartsWith("/dev/", StringComparison.Ordinal) || !Directory.Exists(about))
            return null;
        var devices = Directory.EnumerateDirectories(about).Where(d => File.Exists(Path.Combine(d, "partition"))).Select(Path.GetFileName).Append(Path.GetFileName(real)).Select(n => $"/dev/{n}").ToHashSet();
        foreach (var line in File.ReadLines("/proc/self/mounts").Select(l => l.Split(' ')))
        {
            if (devices.Contains(line[0]))
                return $"{line[0]} is mounted at {line[1]}";
        }
        if (File.Exists("/proc/swaps") && File.ReadLines("/proc/swaps").Select(l => l.Split(' ', '\t')[0]).FirstOrDefault(devices.Contains) is { } swap)
            return $"{swap} is swap space";
        return devices.Select(d => $"/sys/class/block/{Path.GetFileName(d)}/holders").Where(Directory.Exists).SelectMany(Directory.EnumerateFileSystemEntries).FirstOrDefault() is { } holder
            ? $"{Path.GetFileName(holder)} stands on it" : null;
    }

    private static DeployResult OntoDisk(
        DeployRequest request, DiskLayout? layout, ArchiveReader archive, ImageRecord image, ImageTree tree, TreeEditor editor, List<string> warnings, Stopwatch clock,
        IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var isNew = request.Size is not null;
        WindowsInstall? install;
        using (var context = new ServiceContext(editor))
            install = context.Install;
        DiskVolume? into = null;
        if (!isNew)
        {
            if (request.MayErase is { } mayErase)
            {
                if (!mayErase(SurveyOperation.Run(request.Target, progress, cancellation)))
                    throw VembarException.Input("not-confirmed", $"'{request.Target}' was not erased: that was not confirmed", "Nothing was changed.");
            }
            else
                into = GivenVolume(request.Target, request.Volume!.Value);
        }
        var complete = false;
        try
        {
            using var disk = isNew ? DiskImage.Create(request.Target, FormatFor(request.Target), request.Size!.Value) : DiskImage.Open(request.Target, write: true);
            using var target = new DiskTarget(disk);
            long start, length;
            string shown;
            if (into is not null)
                (start, length, shown) = (into.Start, into.Length, $"volume {into.Number} of '{request.Target}'");
            else
            {
                progress.Report(new OperationProgress("dividing and formatting", 0, 0, false, ""));
                var (_, windows) = target.Prepare(layout!, editor, install, cancellation);
                (start, length, shown) = (windows.Start, windows.Length, $"partition {windows.Number} of '{request.Target}'");
            }
            NtfsTarget files;
            using (var volume = target.OpenVolume(start, length, shown))
            {
                files = new NtfsTarget(volume, editor, tree, archive, request.KeepExisting && into is not null);
                if (into is not null && !request.KeepExisting)
                    CheckEmpty(volume, shown);
                files.Plan(cancellation);
                files.Write((done, total, current) => progress.Report(new OperationProgress("writing files", done, total, true, current)), cancellation);
                progress.Report(new OperationProgress("finishing the volume", 0, 0, false, ""));
                volume.Close();
            }
            IReadOnlyList<string> differences = [];
            if (request.Verify)
            {
                using var source = target.OpenWritten(start, length, shown);
                differences = files.Verify(source, (done, total, current) => progress.Report(new OperationProgress("reading back", done, total, true, current)), cancellation);
            }
            warnings.AddRange(target.Warnings);
            if (files.Lost.Count > 0)
                warnings.Add($"an NTFS volume cannot keep, or this deployment did not: {string.Join(", ", files.Lost.OrderBy(l => l.Key, StringComparer.Ordinal).Select(l => $"{l.Key} ({l.Value})"))}");
            var volumes = into is null ? target.Volumes : [new WrittenVolume(into.Number, "windows", into.Start, into.Length, FileSystem.Ntfs, into.FileSystem.Label)];
            complete = true;
            return new DeployResult(image, request.Target, files.Files, files.Bytes, clock.Elapsed.TotalSeconds, [.. files.Kept], differences, request.Verify, warnings, volumes);
        }
        catch (Exception failure)
        {
            if (failure is not VembarException && VembarException.From(failure, "write", request.Target) is { } error)
                throw error;
            throw;
        }
        finally
        {
            // A disk that looks finished and is not is worse than none.
            if (!complete)
                TakeBack(request, isNew, into);
        }
    }

    private static void TakeBack(DeployRequest request, bool isNew, DiskVolume? into)
    {
        if (isNew)
            File.Delete(request.Target);
        else if (into is null)
        {
            try
            {
                using var disk = DiskImage.Open(request.Target, write: true);
                using var device = disk.OpenDevice();
                device.Write(new byte[DiskLayout.Alignment], 0);
                device.Flush();
            }
            catch (VembarException)
            {
                // It could not be written before either.
            }
        }
    }

    private static DiskVolume GivenVolume(string path, int number)
    {
        using var disk = Disk.Open(path);
        var volume = disk.Volumes.FirstOrDefault(v => v.Number == number)
            ?? throw VembarException.Input("no-such-volume", $"'{path}' has no volume {number}", "Choose one of these.", [.. disk.Volumes.Select(v => $"volume {v.Number}: {v.FileSystem.Kind}, {v.Length >> 20} MiB")]);
        if (volume.FileSystem.Kind != FileSystem.Ntfs)
            throw VembarException.Input("not-ntfs", $"volume {number} of '{path}' is not an NTFS volume ({volume.FileSystem.Kind})", "Format it with NTFS first, or make the disk anew with --erase.");
        using var source = FoundSource.OpenVolume(disk, volume);
        return !source.IsDirty ? volume : throw DiskTarget.InUse($"volume {number} of '{path}'");
    }

    private static void CheckEmpty(Native.NtfsVolume volume, string shown)
    {
        using var root = volume.Open(Native.NtfsVolume.Root, "/");
        var names = root.Names().Where(n => (n.Reference & 0xFFFFFFFFFFFF) >= Native.NtfsVolume.FirstUserFile && n.Name is not ("System Volume Information" or "$RECYCLE.BIN")).Select(n => n.Name).ToList();
        if (names.Count > 0)
            throw VembarException.Input("target-not-empty", $"{shown} is not empty: it holds {string.Join(", ", names.Take(5))}{(names.Count > 5 ? $" and {names.Count - 5} more" : "")}", "Keep what is there with --keep-existing, or make the disk anew with --erase.");
    }

    // Nobody means a folder of such a name.
    private static bool IsDiskName(string path) => Path.GetExtension(path).ToLowerInvariant() is ".vhdx" or ".vhd" or ".qcow2" or ".vmdk" or ".img" or ".raw";

    /// <summary>The format that a new disk image's name asks for.</summary>
    private static DiskFormat FormatFor(string path) => Path.GetExtension(path).ToLowerInvariant() switch
    {
        ".vhdx" => DiskFormat.Vhdx,
        ".vhd" => DiskFormat.Vhd,
        ".qcow2" => DiskFormat.Qcow2,
        ".vmdk" => DiskFormat.Vmdk,
        _ => DiskFormat.Raw,
    };

    private static void CheckTarget(DeployRequest request, ImageRecord? image)
    {
        var full = Path.GetFullPath(request.Target);
        var folder = full;
        if (File.Exists(full))
            throw VembarException.Input("not-a-folder", $"the target '{request.Target}' is a file", "Name a folder.");
        if (Directory.Exists(full))
        {
            if (!request.KeepExisting && Directory.EnumerateFileSystemEntries(full).Any())
                throw VembarException.Input("target-not-empty", $"the target folder '{request.Target}' is not empty", "Name an empty or new folder, or keep what is there with --keep-existing.");
        }
        else
        {
            folder = Path.GetDirectoryName(Path.TrimEndingDirectorySeparator(full));
            if (folder is null || !Directory.Exists(folder))
                throw VembarException.Input("no-such-folder", $"there is no folder '{folder}' to make the target '{request.Target}' in", "Check the path, or make the folder.");
        }
        if (!Checks.MayWrite(folder))
            throw VembarException.Surroundings("no-permission", $"'{folder}' cannot be written", "Choose another target, or run as a user who may write there.");
        var free = new DriveInfo(folder).AvailableFreeSpace;
        if (image is not null && !request.KeepExisting && free < image.Bytes)
            throw VembarException.Surroundings("no-room", $"the image takes {image.Bytes} bytes, '{request.Target}' has room for {free}", "Make room there, or choose another target.");
    }

    private static void Personalise(DeployRequest request, TreeEditor editor, List<string> warnings)
    {
        using var context = new ServiceContext(editor);
        if (context.Install is not { } install)
            throw VembarException.Input("no-windows", $"{editor.Shown} holds no Windows, so it takes no answer file and no computer name", "Leave out --answers and --computer-name.");
        if (request.Answers is not null)
        {
            var outcome = new AnswersChange(request.Answers).Apply(context).Single();
            if (outcome.Status == ChangeStatus.Refused)
                throw VembarException.Input("bad-answer-file", outcome.Why, $"Mend '{request.Answers}' and run it again.");
        }
        if (request.ComputerName is null)
            return;
        if (install.State is not ("generalized" or "generalized-audit"))
            warnings.Add($"the install is {install.State}, not generalized: Windows reads the computer name from the answer file only at the first start of a generalized install");
        var path = context.Windows(AnswersChange.Place);
        var answers = editor.ReadFile(path, AnswerFile.Longest) is { } bytes ? AnswerFile.Parse(bytes, path.ToString()) : AnswerFile.Empty();
        answers.SetComputerName(request.ComputerName, install.Architecture);
        var changed = answers.ToBytes();
        editor.PutFile(path, new NewContent(changed, null, changed.Length));
    }

    // A machine that meets {{serial}} stops at its first start and asks.
    private static void FillIn(DeployRequest request, TreeEditor editor, List<string> warnings, bool isDisk)
    {
        var path = WindowsInstall.FindFolder(editor) is { } windows ? WindowsPath.Root.Child(windows).Append(WindowsPath.Parse(AnswersChange.Place)) : null;
        var bytes = path is null ? null : editor.ReadFile(path, AnswerFile.Longest);
        var answers = bytes is not null && bytes.AsSpan().IndexOf("{{"u8) >= 0 ? AnswerFile.Parse(bytes, path!.ToString()) : null;
        var wanted = answers?.Placeholders ?? [];
        if (request.Fill.Keys.FirstOrDefault(n => !wanted.Contains(n)) is { } unknown)
        {
            throw VembarException.Input("no-such-placeholder", $"the answer file of {editor.Shown} has no {{{{{unknown}}}}}",
                wanted.Count > 0 ? $"It has {string.Join(", ", wanted.Select(w => $"{{{{{w}}}}}"))}." : bytes is null ? "The image has no answer file; give one with --answers." : "Leave out --fill.");
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
                throw VembarException.Input("bad-answer-file", $"with what was filled in, the answer file is not right: {wrong.Text}", "Give other texts with --fill.");
        }
        else
        {
            var what = $"the answer file still has {string.Join(", ", left.Select(w => $"{{{{{w}}}}}"))}";
            if (isDisk)
                throw VembarException.Input("placeholders-left", $"{what}, and the machine would stop at it at its first start", $"Give {string.Join(" ", left.Select(w => w == "computer" ? "--computer-name NAME" : $"--fill {w}=TEXT"))}.");
            warnings.Add(what);
        }
    }
}
