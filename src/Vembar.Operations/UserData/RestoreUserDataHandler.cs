using System.Diagnostics;
using Vembar.Common;
using Vembar.Images.Editing;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Native;
using Vembar.Operations.Deploy;
using Vembar.Store.Reading;
using Vembar.Volumes.Disks;
using Vembar.Volumes.Sources;
using Vembar.Volumes.Targets;
using Vembar.Windows.Install;
using Vembar.Windows.Registry;
using Vembar.Windows.UserData;

namespace Vembar.Operations.UserData;

/// <summary>Puts user files that were kept onto another install: whole profiles of domain accounts where the account goes on with them,
/// all others into a folder of the account's documents. Nothing that is there is replaced.</summary>
public sealed class RestoreUserDataHandler(OperationHost host) : IOperationHandler<RestoreUserDataRequest, RestoreUserDataResult>
{
    /// <summary>The folder for files of accounts that do not go on with their profile.</summary>
    public const string FolderName = "From the old install";

    /// <summary>Checks everything that can be checked, then writes, reads back, and tells the install of the profiles.</summary>
    /// <exception cref="VembarException">Something is in the way.</exception>
    /// <exception cref="OperationCanceledException">It was interrupted before anything was written.</exception>
    public async Task<RestoreUserDataResult> HandleAsync(RestoreUserDataRequest request, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var clock = Stopwatch.StartNew();
        var problems = new List<VembarException>();
        using var archive = Checks.Collect(problems, () => ArchiveReader.Open(request.Image.Archive, host.Files));
        var image = archive is null ? null : Checks.Collect(problems, () => archive.Find(request.Image.Which, host.Clock));
        var accounts = image is null ? null : Checks.Collect(problems, () => Choose(request, image));
        if (File.Exists(request.Target))
            VolumeFile.Recover(request.Target, WindowsInstall.HivePath("Windows", "SOFTWARE"), request.Reading);
        var found = Checks.Collect(problems, () => ResolvedSource.Open(request.Target, request.Volume, request.Reading));
        try
        {
            Checks.Throw(problems);
            var source = found!.Source;
            var windows = WindowsInstall.FindFolder(source)
                ?? throw VembarException.Input("no-windows", $"'{request.Target}' holds no Windows that user files could be put back to",
                Advice.Of("not-windows"));
            var volume = found.Volume;
            if (source is NtfsSource { IsDirty: true } or NtfsSource { IsJournalClean: false })
                throw DiskTarget.InUse(source.DisplayName);
            var hive = WindowsInstall.HivePath(windows, "SOFTWARE");
            var software = RegistryHive.Open(source.ReadFile(hive, RegistryHive.Longest)!, write: true, $"{source.DisplayName}: '{hive}'",
                host.Now, cancellation);
            var sam = source.Exists(WindowsInstall.HivePath(windows, "SAM")) ? WindowsInstall.OpenHive(source, windows, "SAM") : null;
            var tree = new ImageTree(archive!, image!.Root, $"{archive!.Path}#{image.Number}");
            var editor = new TreeEditor(tree) { Clock = host.Clock };
            using var fetching = archive.FetchTrees();
            var places = new UserFilePlaces(editor, image, source, UserAccounts.Read(source, windows, software, sam),
                RestoreJournalKey.Begun(source, image.Root.ToString(), request.Accounts));
            var laid = places.Arrange(accounts!, withElsewhere: request.Accounts.Count == 0);
            var warnings = new List<string>(found.Warnings);
            warnings.AddRange(places.Warnings);
            foreach (var (account, folder) in places.Profiles)
                UserAccounts.AddProfile(software, account.Sid, account.Guid, folder);
            // A volume is not read by another while it is written.
            found.Dispose();
            found = null;
            var writing = new Writing(request, archive, image, tree, editor, new TargetOptions
            {
                KeepExisting = true,
                Workers = host.Workers,
                Clock = host.Clock,
                Key = new RestoreJournalKey(image.Root.ToString(), request.Accounts, places.Places).Encode(),
            }, hive, places.Profiles.Count > 0 ? software.ToBytes() : null, host, progress);
            try
            {
                var (files, bytes, kept, differences) = volume is null ? await writing.FolderAsync(cancellation).ConfigureAwait(false)
                    : await writing.VolumeAsync(volume, cancellation).ConfigureAwait(false);
                warnings.AddRange(writing.Warnings);
                return new RestoreUserDataResult(image, request.Target, laid, files, bytes, kept, differences, warnings,
                    clock.Elapsed.TotalSeconds);
            }
            catch (Exception failure) when (writing.HasBegun)
            {
                var (left, hint) = volume is not null && AfterFailure.IsLeftOpen(request.Target, volume.Number, request.Reading)
                    ? AfterFailure.Open(request.Target, volume.Number)
                    : volume is not null && writing.IsWritten && failure is Native.NativeException
                    ? AfterFailure.NotDurable(request.Target, volume.Number)
                    : ("what was put back of the user files is whole, and nothing else was changed",
                        "Run the same command again to go on.");
                if (Deployment.Wrap(failure, "write to", request.Target, left, hint) is { } told)
                    throw told;
                throw;
            }
        }
        finally
        {
            found?.Dispose();
        }
    }

    private static List<KeptAccount> Choose(RestoreUserDataRequest request, ImageRecord image)
    {
        if (image.UserFiles is not { } kept)
            throw VembarException.Input("not-user-files", $"image {image.Number} {image.Title} is of an install, not of user files",
                Advice.Of("not-user-files"));
        if (request.Root is { } root && image.Root.ToString() != root)
            throw VembarException.Input("other-image",
                $"image {image.Number} {image.Title} is not the one that was meant: its files are others");
        return AccountChoice.Of(kept.Accounts, a => a.Name, request.Accounts, $"image {image.Number} {image.Title}");
    }

    private sealed record Writing(RestoreUserDataRequest Request, ArchiveReader Archive, ImageRecord Image, ImageTree Tree,
        TreeEditor Editor, TargetOptions Options, WindowsPath Hive, byte[]? Software, OperationHost Host,
        IProgress<OperationProgress> Progress)
    {
        public List<string> Warnings { get; } = [];

        public bool HasBegun { get; private set; }

        public bool IsWritten { get; private set; }

        private Action<long, long, string> Telling(string phase) =>
            (done, total, current) => Progress.Report(new OperationProgress(phase, done, total, true, current));

        private long BytesToWrite() => BytesIn(Editor.Root);

        private long BytesIn(TreeEditor.Node node) => node.Entry.Kind != EntryKind.Folder ? node.Entry.Length
            : Editor.Children(node).Sum(BytesIn);

        private void DemandRoom(long free, bool resumes)
        {
            var needed = BytesToWrite();
            if (needed > free && !resumes)
                throw VembarException.Environment("no-room", $"the user files need {needed >> 20} MiB, and '{Request.Target}' has "
                    + $"{free >> 20} MiB free", Advice.Of("no-room-on-volume"));
        }

        private void WarnOfLost(string target, IReadOnlyDictionary<string, long> lost)
        {
            if (lost.Count > 0)
                Warnings.Add($"{target}: " + string.Join(", ", lost.OrderBy(l => l.Key, StringComparer.Ordinal)
                    .Select(l => $"{l.Key} ({l.Value})")));
        }

        public async Task<(long Files, long Bytes, IReadOnlyList<string> Kept, IReadOnlyList<string> Differences)> VolumeAsync(
            DiskVolume at, CancellationToken cancellation)
        {
            using var disk = DiskImage.Open(Request.Target, write: true, Request.Reading);
            using var target = new DiskTarget(disk, Host.TemporaryFolder);
            var displayName = $"volume {at.Number} of '{Request.Target}'";
            NtfsTarget files;
            using (var volume = target.OpenVolume(at.Start, at.Length, displayName))
            {
                // The account goes on with the profile only when all of it is there; and a run that is broken off before this goes on.
                files = new NtfsTarget(volume, Editor, Tree, Archive, Options with
                {
                    BeforeEnd = Software is null ? null
                        : () => VolumeFile.Replace(volume.Volume, Hive, Software, FileTime.From(Host.Now).Ticks),
                });
                await files.PlanAsync(cancellation).ConfigureAwait(false);
                DemandRoom(volume.Volume.FreeBytes(), files.IsResuming);
                cancellation.ThrowIfCancellationRequested();
                HasBegun = true;
                try
                {
                    await files.WriteAsync(Telling("putting back user files"), cancellation).ConfigureAwait(false);
                    IsWritten = true;
                }
                finally
                {
                    volume.Close();
                }
            }
            IReadOnlyList<string> differences;
            using (var written = target.OpenWritten(at.Start, at.Length, displayName))
                differences = await files.VerifyAsync(written, Telling("reading back"), cancellation).ConfigureAwait(false);
            disk.Finish();
            WarnOfLost("an NTFS volume cannot keep it, or this run did not", files.Lost);
            return (files.Files, files.Bytes, [.. files.Kept], differences);
        }

        public async Task<(long Files, long Bytes, IReadOnlyList<string> Kept, IReadOnlyList<string> Differences)> FolderAsync(
            CancellationToken cancellation)
        {
            using var files = new FolderTarget(Request.Target, Editor, Tree, Archive, Options with
            {
                BeforeEnd = Software is null ? null : ReplaceHive,
            });
            await files.PlanAsync(cancellation).ConfigureAwait(false);
            DemandRoom(Posix.FreeBytes(Request.Target), files.IsResuming);
            cancellation.ThrowIfCancellationRequested();
            HasBegun = true;
            await files.WriteAsync(Telling("putting back user files"), cancellation).ConfigureAwait(false);
            var differences = await files.VerifyAsync(Telling("reading back"), cancellation).ConfigureAwait(false);
            WarnOfLost("this file system cannot keep it", files.Lost);
            return (files.Files, files.Bytes, [.. files.Kept], differences);
        }

        private void ReplaceHive()
        {
            // Each part as the folder has it: Linux tells cases apart.
            var path = Request.Target;
            foreach (var part in Hive.Parts)
                path = Path.Combine(path, Directory.EnumerateFileSystemEntries(path).Select(Path.GetFileName)
                    .FirstOrDefault(n => n == part) ?? Directory.EnumerateFileSystemEntries(path).Select(Path.GetFileName)
                    .First(n => part.Equals(n, StringComparison.OrdinalIgnoreCase))!);
            var fresh = $"{path}.vembar-new";
            File.Copy(path, fresh, overwrite: true);
            File.WriteAllBytes(fresh, Software!);
            File.Move(fresh, path, overwrite: true);
        }
    }
}
