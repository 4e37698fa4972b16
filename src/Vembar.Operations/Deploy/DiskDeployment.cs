using Vembar.Common;
using Vembar.Common.Formats;
using Vembar.Operations.Survey;
using Vembar.Volumes.Disks;
using Vembar.Volumes.Targets;
using Vembar.Windows.Install;
using Vembar.Windows.Servicing;

namespace Vembar.Operations.Deploy;

/// <summary>Writes an image onto a disk, which it divides, or into a volume of one.</summary>
/// <param name="deployment">What is written, and how.</param>
/// <param name="layout">How the disk is divided; null for a volume as it is.</param>
internal sealed class DiskDeployment(Deployment deployment, DiskLayout? layout)
{
    /// <summary>Writes and, where asked to, reads back.</summary>
    /// <exception cref="VembarException">Something is in the way.</exception>
    public async Task<DeployResult> RunAsync(CancellationToken cancellation)
    {
        var (request, archive, editor, tree) = (deployment.Request, deployment.Archive, deployment.Editor, deployment.Tree);
        var isNew = request.Size is not null;
        var install = new ServiceContext(editor).Install;
        var into = isNew || request.MayErase is not null ? null : GivenVolume(request.Target, request.Volume!.Value);
        // What this run has done to the disk, so that it takes back that and nothing else.
        bool isErased = false, complete = false, resumes = false, mayNote = false, isNoted = false, goesOn = false,
            isWritten = false;
        var isErasing = request.MayErase is not null;
        NtfsTarget? files = null;
        try
        {
            using var unfinished = isNew ? UnfinishedFile.Begin(request.Target) : null;
            using var disk = unfinished is null ? DiskImage.Open(request.Target, write: true)
                : DiskImage.Make(unfinished.Path, FormatFor(request.Target), request.Size!.Value, Path.GetFileName(request.Target));
            mayNote = request.Note is not null && isErasing && disk.Format == DiskFormat.Raw;
            using var target = new DiskTarget(disk, deployment.Host.TemporaryFolder);
            long start, length;
            string displayName;
            if (into is not null)
                (start, length, displayName) = (into.Start, into.Length, $"volume {into.Number} of '{request.Target}'");
            else
            {
                deployment.Tell("preparing the disk");
                target.Prepare(layout!, editor, install, cancellation);
                (start, length, displayName) =
                    (target.Windows.Start, target.Windows.Length, $"partition {target.Windows.Number} of '{request.Target}'");
                resumes = mayNote && IsOurs(disk, target, layout!);
                using (var prepared = resumes ? null : target.OpenPrepared())
                {
                    if (prepared is not null)
                        await new NtfsTarget(prepared, editor, tree, archive, deployment.Options).PlanAsync(cancellation)
                            .ConfigureAwait(false);
                }
                if (!resumes && request.MayErase is { } mayErase
                    && !mayErase(await OnTheDiskAsync(disk, cancellation).ConfigureAwait(false)))
                    throw VembarException.Input("not-confirmed", $"'{request.Target}' was not erased: that was not confirmed",
                        "Nothing was changed.");
                cancellation.ThrowIfCancellationRequested();
                if (resumes)
                {
                    isErased = isNoted = true;
                    resumes = isNoted = target.TryRecover();
                }
                if (!resumes)
                {
                    deployment.Tell("dividing and formatting");
                    cancellation.ThrowIfCancellationRequested();
                    isErased = !isNew;
                    target.Divide(mayNote ? request.Note! : "", cancellation);
                }
            }
            using (var volume = mayNote ? target.OpenCheckpointed(displayName) : target.OpenVolume(start, length, displayName))
            {
                if (mayNote)
                {
                    target.Note(KeyFor(layout!), request.Note!);
                    isNoted = true;
                }
                files = new NtfsTarget(volume, editor, tree, archive, deployment.Options with
                {
                    KeepExisting = request.KeepExisting && into is not null,
                    Key = into is null && !mayNote ? null : deployment.JournalKey(),
                    GoesOn = resumes,
                    Compact = request.Compact,
                });
                if (into is not null && !request.KeepExisting && !files.IsResuming)
                    CheckEmpty(volume.Volume, displayName);
                await files.PlanAsync(cancellation).ConfigureAwait(false);
                try
                {
                    await files.WriteAsync(deployment.Telling("writing files"), cancellation).ConfigureAwait(false);
                    isWritten = true;
                }
                finally
                {
                    // Also what was written so far is to be found.
                    deployment.Tell("finishing the volume");
                    volume.Close();
                }
            }
            IReadOnlyList<string> differences = [];
            if (request.Verify)
            {
                using var source = target.OpenWritten(start, length, displayName);
                differences = await files.VerifyAsync(source, deployment.Telling("reading back"), cancellation).ConfigureAwait(false);
            }
            deployment.Warnings.AddRange(target.Warnings);
            deployment.WarnOfLost("an NTFS volume cannot keep it, or this deployment did not", files.Lost);
            var volumes = into is null ? target.Volumes
                : [new WrittenVolume(into.Number, "windows", into.Start, into.Length, FileSystem.Ntfs, into.FileSystem.Label)];
            if (into is null)
                target.FinishBoot(keepsNote: mayNote);
            disk.Finish();
            unfinished?.Finish();
            complete = true;
            var kept = files.Kept.ToList();
            deployment.WarnOfKept(kept.Count);
            return new DeployResult(deployment.Image, request.Target, files.Files, files.Bytes, deployment.Clock.Elapsed.TotalSeconds,
                kept, differences, request.Verify, deployment.Warnings, files.Resumed, volumes)
            {
                Compacted = files.Compacted,
                NotKept = files.Lost,
            };
        }
        catch (Exception failure)
        {
            goesOn = isErased && isNoted && MayGoOn(failure) && !request.IsGivenUp(failure);
            var (left, hint) = goesOn ? ("what was written of it is kept", "Run it again to go on.") : isErased
                ? ($"the disk '{request.Target}' was erased before that: what was on it is lost, and it holds nothing that can be used",
                "Run it again, or put back what was there from a copy.")
                : into is not null && files is not null && AfterFailure.IsLeftOpen(request.Target, into.Number, DiskReading.Usual)
                ? AfterFailure.Open(request.Target, into.Number)
                : into is not null && isWritten && failure is Native.NativeException
                ? AfterFailure.NotDurable(request.Target, into.Number)
                : into is not null && files?.Left() is { Length: > 0 } written
                ? ($"volume {into.Number} of '{request.Target}' holds {written}", "Run the same command again to go on.") : ("", "");
            if (left.Length > 0 && Deployment.Wrap(failure, "write", request.Target, left, hint) is { } told)
                throw told;
            if (failure is not VembarException && VembarException.From(failure, "write", request.Target) is { } error)
                throw error;
            throw;
        }
        finally
        {
            // A disk that looks finished and is not is worse than none.
            if (!complete && isErased && !goesOn)
                EraseTable(request.Target);
        }
    }

    // It was interrupted, or what it reads from went away.
    private static bool MayGoOn(Exception failure) => failure is OperationCanceledException
        or VembarException { Kind: ErrorKind.Environment, Code: not ("io-error" or "no-room") };

    private string KeyFor(DiskLayout divided) => $"{deployment.JournalKey()} "
        + string.Join(' ', divided.Partitions.Select(p => $"{p.Role}{p.Bytes}"));

    // Whether an earlier run of this very deployment was broken off on the disk.
    private bool IsOurs(DiskImage disk, DiskTarget target, DiskLayout divided)
    {
        using var device = disk.OpenDevice();
        return DiskNote.Read(device)?.Key == KeyFor(divided) && target.IsDivided(device);
    }

    // What will be lost; also of a disk whose table is damaged, which is a reason to erase it.
    private async Task<SurveyResult> OnTheDiskAsync(DiskImage disk, CancellationToken cancellation)
    {
        var path = deployment.Request.Target;
        try
        {
            return await new SurveyHandler(deployment.Host).HandleAsync(new SurveyRequest(path), deployment.Progress, cancellation)
                .ConfigureAwait(false);
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
            DiskNote.Remove(device);
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
            [.. disk.Volumes.Select(v => $"volume {v.Number}: {v.FileSystem.Kind}, {ByteSize.Show(v.Length)}")]);
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
        {
            var more = names.Count > 5 ? $" and {names.Count - 5} more" : "";
            throw VembarException.Input("target-not-empty",
                $"{displayName} is not empty: it holds "
                + $"{string.Join(", ", names.Take(5))}{more}",
                Advice.Of("volume-not-empty"));
        }
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
}
