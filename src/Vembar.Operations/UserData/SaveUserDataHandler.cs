using System.Diagnostics;
using System.Globalization;
using Vembar.Common;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Operations.Capture;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Vembar.Store.Writing;
using Vembar.Volumes.Pipeline;
using Vembar.Volumes.Sources;
using Vembar.Windows.Inspection;
using Vembar.Windows.Install;
using Vembar.Windows.Registry;
using Vembar.Windows.UserData;

namespace Vembar.Operations.UserData;

/// <summary>Keeps the files that users made on an install, as an image in an archive of such.</summary>
public sealed class SaveUserDataHandler(OperationHost host) : IOperationHandler<SaveUserDataRequest, SaveUserDataResult>
{
    /// <summary>The code of the error that says that there is nothing to keep.</summary>
    public const string NothingToKeep = "nothing-to-keep";

    /// <summary>Keeps them, and makes sure that what was stored can be read.</summary>
    /// <exception cref="VembarException">Something is in the way, or there is nothing to keep; the archive is as it was.</exception>
    /// <exception cref="OperationCanceledException">It was interrupted; the archive is as it was.</exception>
    public async Task<SaveUserDataResult> HandleAsync(SaveUserDataRequest request, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var clock = Stopwatch.StartNew();
        var problems = new List<VembarException>();
        using var found = Checks.Collect(problems, () => ResolvedSource.Open(request.Source, request.Volume, request.Reading));
        Checks.Collect(problems, () =>
        {
            if (string.IsNullOrWhiteSpace(request.Machine))
                throw new VembarException(ErrorKind.Usage, "bad-machine", "it was not said which machine the files are of",
                    "Give the machine's name.");
            Checks.ImageName(request.Machine);
            Checks.CanAddTo(host, request.Archive, null, null);
            return "";
        });
        Checks.Throw(problems);
        Checks.DemandFinished(found!, request.Source, request.Reading);
        var source = found!.Source;
        var windows = WindowsInstall.FindFolder(source)
            ?? throw VembarException.Input("no-windows", $"'{request.Source}' holds no Windows, so no accounts of users",
            Advice.Of("not-windows"));
        DemandClosed(request, source);
        var began = host.Now;
        var warnings = new List<string>(found.Warnings);
        var accounts = Choose(request, source, windows);
        var plan = KeepPlan.Make(source, accounts, request.Rules);
        warnings.AddRange(plan.Notes);
        var tree = await source.WalkAsync(new WalkOptions
        {
            Exclusions = plan.Exclusions,
            Avoid = request.Archive.Path,
            SkipUnreadable = request.SkipUnreadable || request.Reading.AcceptDamaged,
            Seen = files => progress.Report(new OperationProgress("looking", files, 0, false, "")),
            OpensAll = true,
            Workers = host.Workers,
        }, cancellation).ConfigureAwait(false);
        warnings.AddRange(tree.Warnings);
        _ = Prune(tree.Root, WindowsPath.Root, plan.Exclusions);
        var kept = new KeptFiles(request.Machine, [.. plan.Accounts.Select(a => Count(tree.Root, a.Account, a.IsWhole))
            .Where(a => a.Files > 0)], request.Rules.Elsewhere)
        {
            Volume = source.Identity,
        };
        if (tree.Files == 0)
            throw VembarException.Input(NothingToKeep, $"'{request.Source}' holds no files that the rules keep",
                Advice.Of("nothing-to-keep"));

        using var writer = await ArchiveWriter.OpenAsync(request.Archive, host.WriterOptions(request.Wait) with
        {
            MayCreate = true,
            Effort = request.Effort,
        }, cancellation).ConfigureAwait(false);
        var folders = 0L;
        CountFolders(tree.Root, ref folders);
        var stored = await new TreeCapture(host, writer, source).StoreAsync(tree, all: true,
            new PipelineOptions(request.Effort, request.SkipUnreadable || request.Reading.AcceptDamaged, host.Workers), progress,
            cancellation).ConfigureAwait(false);
        warnings.AddRange(stored.Warnings);
        var earlier = ImageCatalogue.Of(writer.Base).VersionsOf(request.Machine);
        var isNew = earlier.All(i => i.UserFiles is null || i.Root != stored.Root);
        ImageRecord record;
        if (isNew)
        {
            record = new ImageRecord
            {
                Number = 0,
                Name = request.Machine,
                Version = VersionOf(DateOnly.FromDateTime(began), earlier),
                Created = began,
                Root = stored.Root,
                Files = tree.Files - stored.Vanished,
                Folders = folders,
                Bytes = tree.Bytes,
                UserFiles = kept,
                Origin = new ImageOrigin
                {
                    Kind = source.Kind,
                    From = Path.GetFullPath(request.Source),
                    Identity = "",
                    Program = Checks.ProgramVersion,
                    Read = began,
                    Root = stored.Root,
                },
                History = [new HistoryEntry
                {
                    Time = began,
                    Action = "user files",
                    Details = [$"from {Path.GetFullPath(request.Source)}", .. kept.Accounts.Select(a => $"{a.Name}: {a.Files} files")],
                }],
            };
            record = writer.CommitImage(record, null, Checks.Change("user files", writer.Base.Catalogue.NextNumber, record));
        }
        else
            record = earlier.Last(i => i.UserFiles is not null && i.Root == stored.Root);
        Verify(request, record, progress, cancellation);
        var stats = new StoreStats(record.Files, stored.FilesRead, tree.Bytes, stored.State.BytesRead, stored.State.BytesNew,
            isNew ? writer.BytesStored : 0, clock.Elapsed.TotalSeconds);
        return new SaveUserDataResult(request.Archive.Path, record, isNew, stats, stored.LeftOut, warnings, IsReadBack(request));
    }

    private static void DemandClosed(SaveUserDataRequest request, ISource source)
    {
        if (request.AcceptOpen)
            return;
        var why = ReadinessCheck.Hibernation(source) is not null ? "was hibernated, or shut down for a fast start"
            : source is NtfsSource { IsDirty: true } or NtfsSource { IsJournalClean: false } ? "was not shut down cleanly" : null;
        if (why is not null)
            throw VembarException.Input("not-shut-down",
                $"the Windows of '{request.Source}' {why}: files of its users may be in memory only",
                Advice.Of("not-shut-down"));
    }

    private static List<UserAccount> Choose(SaveUserDataRequest request, ISource source, string windows)
    {
        var software = WindowsInstall.OpenHive(source, windows, "SOFTWARE");
        var sam = source.Exists(WindowsInstall.HivePath(windows, "SAM")) ? WindowsInstall.OpenHive(source, windows, "SAM") : null;
        var all = UserAccounts.Read(source, windows, software, sam).Where(request.Rules.Takes).ToList();
        return AccountChoice.Of(all, a => a.Name, request.Accounts, $"'{request.Source}'");
    }

    // Folders that only led to something that might have been there.
    private static bool Prune(SourceNode folder, WindowsPath path, Exclusions exclusions)
    {
        folder.Children!.RemoveAll(child => child.Kind == EntryKind.Folder
            && !Prune(child, path.Child(child.Name), exclusions) && !exclusions.Takes(path.Child(child.Name).Parts));
        return folder.Children.Count > 0;
    }

    private static void CountFolders(SourceNode folder, ref long folders)
    {
        folders++;
        foreach (var child in folder.Children!.Where(c => c.Kind == EntryKind.Folder))
            CountFolders(child, ref folders);
    }

    private static KeptAccount Count(SourceNode root, UserAccount account, bool isWhole)
    {
        var (files, bytes) = (0L, 0L);
        void Add(SourceNode folder)
        {
            foreach (var child in folder.Children!)
            {
                if (child.Kind == EntryKind.Folder)
                    Add(child);
                else
                {
                    files++;
                    bytes += child.HardLinkOf is null ? child.Length : 0;
                }
            }
        }
        var at = root;
        foreach (var part in account.Folder.Parts)
            at = at?.Children?.Find(c => c.Kind == EntryKind.Folder && c.Name.Equals(part, StringComparison.OrdinalIgnoreCase));
        if (at is not null)
            Add(at);
        return new KeptAccount(account.Name, account.Folder.ToString(), account.Sid, account.IsDomain, isWhole, files, bytes)
        {
            Guid = account.Guid,
        };
    }

    // The day, and a number behind it for the second one of a day.
    private static string VersionOf(DateOnly day, IReadOnlyList<ImageRecord> earlier)
    {
        var text = day.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture);
        var version = text;
        for (var number = 2; earlier.Any(i => i.Version == version); number++)
            version = string.Create(CultureInfo.InvariantCulture, $"{text}.{number}");
        return version;
    }

    // A station looks at all that comes, block by block, before it counts; nobody else is taken at their word.
    private static bool IsReadBack(SaveUserDataRequest request) => !PlaceAddress.IsWeb(request.Archive.Path);

    // Whoever is about to erase a disk relies on it.
    private void Verify(SaveUserDataRequest request, ImageRecord record, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        using var archive = ArchiveReader.Open(request.Archive, host.Files);
        var image = archive.Find(record.Number.ToString(CultureInfo.InvariantCulture), host.Clock);
        if (image.Root != record.Root)
            throw VembarException.Damaged($"image {record.Number} of '{request.Archive}' is not the one that was written",
                "Run it again.");
        if (!IsReadBack(request))
            return;
        var tree = new ImageTree(archive, image.Root, $"{request.Archive}#{image.Number}");
        var done = 0L;
        foreach (var (path, entry) in tree.Walk(tree.Root, WindowsPath.Root))
        {
            cancellation.ThrowIfCancellationRequested();
            if (entry.Content is { } content)
                tree.Pieces(content, () => path, (_, _) => cancellation.ThrowIfCancellationRequested());
            foreach (var stream in entry.Streams)
                tree.Pieces(stream.Content, () => path, (_, _) => { });
            done += entry.Length;
            progress.Report(new OperationProgress("reading back what was stored", done, image.Bytes, true, path.ToString()));
        }
    }
}
