using System.Diagnostics;
using Vembar.Common;
using Vembar.Images.Editing;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Operations.Service;
using Vembar.Store.Hashing;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Vembar.Store.Writing;
using Vembar.Volumes.Sources;
using Vembar.Volumes.Targets;
using Vembar.Windows.Install;

namespace Vembar.Operations.Workspaces;

/// <summary>Lays images open in folders, and saves what was changed there. docs/workspaces.md.</summary>
public static class WorkspaceOperation
{
    /// <summary>The folder in a workspace that is Vembar's own.</summary>
    public const string OwnFolder = ".vembar-workspace";

    private static TreeEditor Editor(ArchiveReader archive, ImageRecord image, WorkspaceState state)
    {
        try
        {
            return new TreeEditor(new ImageTree(archive, image.Root, $"{archive.Path}#{image.Number}"));
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged && archive.Images.All(i => i.Root != image.Root))
        {
            throw VembarException.Input("image-gone",
                $"'{archive.Path}' does not hold any more what the workspace '{state.Folder}' was laid open from: the image was dropped "
                + $"or replaced, and the archive compacted since", "Copy your changes out of the folder, and lay another image open.");
        }
    }

    private static Func<ChunkId, byte[]> Descriptors(ArchiveReader archive) => id => archive.Read(id).ToArray();

    /// <summary>Lays an image open.</summary>
    /// <param name="reference">The image.</param>
    /// <param name="folder">A folder that does not exist, or is empty.</param>
    /// <param name="only">Paths to lay open; none for all.</param>
    /// <param name="progress">Told how far it is.</param>
    /// <param name="cancellation">Ends it; what was laid is taken away.</param>
    /// <exception cref="VembarException">Something is in the way; what was laid is taken away.</exception>
    public static WorkspaceOpened Open(ImageReference reference, string folder, IReadOnlyList<string> only,
        IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var clock = Stopwatch.StartNew();
        using var archive = ArchiveReader.Open(reference.Archive);
        var image = archive.Find(reference.Which);
        var tree = new ImageTree(archive, image.Root, $"{reference.Archive}#{image.Number}");
        var editor = new TreeEditor(tree);
        if (only.Count > 0 && editor.KeepOnly([.. only.Select(WindowsPath.Parse)]) is { Count: > 0 } missing)
            throw VembarException.Input("no-such-path", $"'{editor.DisplayName}' has no '{missing[0]}'",
                Advice.Of("no-such-path"), missing.Count > 1 ? [.. missing.Select(m => $"'{m}'")] : []);
        if (editor.Children(editor.Root).Any(c => c.Entry.HasName(Workspace.OwnFolder)))
            throw VembarException.Input("name-not-possible",
                $"the image has an entry '{Workspace.OwnFolder}' at its top, which is what workspaces call their own folder",
                "Rename it in the image.");
        var existed = Directory.Exists(folder);
        var workspace = Workspace.Create(folder, new WorkspaceState
        {
            Archive = Path.GetFullPath(reference.Archive.Path),
            ArchiveId = archive.Header.Id,
            Image = image,
            Only = only,
        });
        try
        {
            long files, bytes;
            var warnings = new List<string>();
            using (var target = new FolderTarget(folder, editor, tree, archive, keepExisting: false, key: null))
            {
                progress.Report(new OperationProgress("looking", 0, 0, false, ""));
                target.Plan(cancellation);
                target.Write((done, total, current) => progress.Report(new OperationProgress("laying open", done, total, true, current)),
                    cancellation);
                (files, bytes) = (target.Files, target.Bytes);
                if (target.Lost.Count > 0)
                {
                    var lost = target.Lost.OrderBy(l => l.Key, StringComparer.Ordinal).Select(l => $"{l.Key} ({l.Value})");
                    warnings.Add($"kept beside the files, for this file system cannot: {string.Join(", ", lost)}");
                }
            }
            progress.Report(new OperationProgress("remembering", 0, 0, false, ""));
            var (source, now) = workspace.Walk(null, cancellation);
            using (source)
                workspace.Remember(image, editor, Descriptors(archive), Workspace.WithStamp(now, null));
            workspace.Dispose();
            return new WorkspaceOpened(folder, image, files, bytes, clock.Elapsed.TotalSeconds, warnings);
        }
        catch (Exception failure)
        {
            workspace.Delete(progress);
            workspace.Dispose();
            if (existed)
                Directory.CreateDirectory(folder);
            var cause = failure is AggregateException { InnerExceptions: [var first, ..] } ? first : failure;
            if (cause is not VembarException && VembarException.From(cause, "write into", folder) is { } error)
                throw error;
            if (cause != failure)
                System.Runtime.ExceptionServices.ExceptionDispatchInfo.Throw(cause);
            throw;
        }
    }

    // A run that was killed between the archive's commit and the workspace's own is brought to its end.
    private static ImageRecord? FinishSaving(Workspace workspace, ArchiveReader archive)
    {
        if (workspace.Announced() is not var (announced, now))
            return null;
        var found = archive.Images.FirstOrDefault(i => i.Root == announced.Root && i.History is [.., var last]
            && last.Action == announced.History[^1].Action && last.Time == announced.History[^1].Time);
        if (found is null)
            workspace.Renounce();
        else
            Remember(workspace, archive, found, now);
        return found;
    }

    // From then on the workspace is one of what was saved.
    private static void Remember(Workspace workspace, ArchiveReader archive, ImageRecord stored, LaidEntry now)
    {
        var laid = new TreeEditor(new ImageTree(archive, stored.Root, archive.Path));
        if (workspace.State.Only.Count > 0)
            laid.KeepOnly([.. now.Leaves(WindowsPath.Root).Where(p => !p.IsRoot && laid.Find(p) is not null)]);
        workspace.Remember(stored, laid, Descriptors(archive), now);
    }

    private static ArchiveLocation PlaceOf(Workspace workspace, string? archive) => archive ?? workspace.State.Archive;

    private static void CheckArchive(ArchiveReader archive, Workspace workspace)
    {
        if (archive.Header.Id != workspace.State.ArchiveId)
            throw VembarException.Input("other-archive",
                $"'{archive.Path}' is not the archive that '{workspace.Folder}' was laid open from", Advice.Of("other-archive"));
    }

    private static ArchiveReader OpenArchive(Workspace workspace, string? given)
    {
        try
        {
            var archive = ArchiveReader.Open(PlaceOf(workspace, given));
            CheckArchive(archive, workspace);
            return archive;
        }
        catch (VembarException problem) when (problem.Code == "no-such-archive")
        {
            throw VembarException.Input("no-such-archive", $"{problem.Message}, which '{workspace.Folder}' was laid open from",
                Advice.Of("archive-moved"));
        }
    }

    /// <summary>What was changed in a workspace.</summary>
    /// <param name="folder">The workspace.</param>
    /// <param name="archive">The archive, where it is not any more where it was; null for there.</param>
    /// <param name="progress">Told how far it is.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <exception cref="VembarException">It is no workspace, is damaged, or its archive cannot be read.</exception>
    public static WorkspaceStatus Status(string folder, string? archive, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        using var workspace = Workspace.Use(folder);
        using var reader = OpenArchive(workspace, archive);
        FinishSaving(workspace, reader);
        using var look = Look.At(workspace, reader, Editor(reader, workspace.State.Image, workspace.State), progress, cancellation);
        return look.Status;
    }

    // What a look at a workspace found; its files can be read while it is held.
    private sealed record Look(WorkspaceStatus Status, WorkspaceChanges Changes, FolderSource Source, LaidEntry Now) : IDisposable
    {
        public static Look At(Workspace workspace, ArchiveReader archive, TreeEditor editor, IProgress<OperationProgress> progress,
            CancellationToken cancellation)
        {
            var clock = Stopwatch.StartNew();
            var (laid, touched) = workspace.Laid();
            var metadata = workspace.MetadataStamp;
            var (source, now) =
                workspace.Walk(files => progress.Report(new OperationProgress("looking", files, 0, false, "")), cancellation);
            try
            {
                var image = workspace.State.Image;
                var changes = WorkspaceChanges.Find(editor, laid, source, now, workspace.Folder, image.Product.Length > 0,
                    touched ? File.ReadAllBytes(workspace.MetadataFile) : null, cancellation);
                var warnings = new List<string>();
                if (workspace.IsMoved)
                    warnings.Add($"the workspace was laid open at '{workspace.State.Folder}' and was moved or copied since");
                if (changes.Files is var (all, gone) && IsMuch(all, gone))
                    warnings.Add($"{gone} of {all} files that were laid open are gone");
                if (archive.Images.FirstOrDefault(i => i.Number == image.Number) is not { } current)
                    warnings.Add($"image {image.Number} \"{image.Name}\" was dropped since; save it with --as");
                else if (current.Root != image.Root)
                    warnings.Add($"image {image.Number} \"{current.Name}\" was changed by something else since; save it with --as");
                return new Look(
                    new WorkspaceStatus(workspace.Folder, archive.Path, image, workspace.State.Only, changes.All, changes.Problems,
                    warnings, changes.FilesRead, clock.Elapsed.TotalSeconds), changes, source, Workspace.WithStamp(now, metadata));
            }
            catch
            {
                source.Dispose();
                throw;
            }
        }

        public void Dispose() => Source.Dispose();
    }

    // Rather a deletion that was cut short than work.
    private static bool IsMuch(long all, long gone) => gone * 2 > all && gone > 1;

    /// <summary>Saves what was changed: as a new image, or in the image's place.</summary>
    /// <exception cref="VembarException">Something is in the way; archive and workspace are as they were.</exception>
    /// <exception cref="OperationCanceledException">It was interrupted; archive and workspace are as they were.</exception>
    public static WorkspaceSaved Save(WorkspaceSaveRequest request, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var clock = Stopwatch.StartNew();
        if (request.As is not null)
            Checks.ImageName(request.As);
        using var workspace = Workspace.Use(request.Folder);
        ImageRecord? saved;
        using (var reader = OpenArchive(workspace, request.Archive))
        {
            saved = FinishSaving(workspace, reader);
            if (request.As is not null && !IsSaved(saved, request.As))
                Checks.NameIsFree(reader, request.As);
        }
        using var writer = ArchiveWriter.Open(PlaceOf(workspace, request.Archive), create: false, request.Effort, request.Wait,
            cancellation: cancellation);
        CheckArchive(writer.Base, workspace);
        var image = workspace.State.Image;
        var editor = Editor(writer.Base, image, workspace.State);
        using var look = Look.At(workspace, writer.Base, editor, progress, cancellation);
        var (status, changes) = (look.Status, look.Changes);
        if (status.Problems.Count > 0)
            throw VembarException.Input("workspace-problems", $"'{request.Folder}' cannot be saved: {status.Problems[0]}",
                "Mend that in the workspace, and save again.", status.Problems.Count > 1 ? status.Problems : []);
        if (!request.AcceptRemovals && changes.Files is var (all, gone) && IsMuch(all, gone))
            throw VembarException.Input("much-is-gone", $"{gone} of {all} files that were laid open in '{request.Folder}' are gone",
                Advice.Of("much-is-gone"));
        var current = writer.Base.Images.FirstOrDefault(i => i.Number == image.Number);
        if (status.Changes.Count == 0 && saved is not null && (request.As is null || IsSaved(saved, request.As)))
            return new WorkspaceSaved(status, saved, true, 0, clock.Elapsed.TotalSeconds);
        if (request.As is not null && IsSaved(saved, request.As))
        {
            throw VembarException.Input("name-taken",
                $"the run that was killed had saved image {saved!.Number} \"{saved.Name}\", and {status.Changes.Count} "
                + $"{(status.Changes.Count == 1 ? "change" : "changes")} came since",
                Advice.Of("name-taken"));
        }
        if (status.Changes.Count == 0 && request.As is null && request.Title.IsIn(current ?? image))
            return new WorkspaceSaved(status, current ?? image, false, 0, clock.Elapsed.TotalSeconds);
        changes.Make();
        status = status with { FilesRead = changes.FilesRead };
        progress.Report(new OperationProgress("storing what changed", 0, 0, false, ""));
        var entry = new HistoryEntry { Time = request.Host.Now, Action = "workspace", Details = Details(status.Changes) };
        var record = request.Title.In(ServiceOperation.Recorded(image, request.As, editor, writer, entry,
            WindowsInstall.ReadChanged(editor)));
        ImageRecord stored;
        if (request.As is null && current?.Root == record.Root && request.Title.IsIn(current))
        {
            // An earlier run saved it and was stopped before it could say so here.
            stored = current;
        }
        else if (request.As is null && current?.Root != image.Root)
        {
            throw VembarException.Input("image-changed",
                current is null ? $"image {image.Number} \"{image.Name}\" is not in '{writer.Base.Path}' any more"
                : $"image {image.Number} \"{current.Name}\" was changed since '{request.Folder}' was laid open from it",
                Advice.Of("image-changed"));
        }
        else
        {
            cancellation.ThrowIfCancellationRequested();
            workspace.Announce(record, look.Now);
            stored = writer.CommitImage(record, request.As is null ? image.Number : null, $"workspace {image.Number} {record.Name}");
        }
        progress.Report(new OperationProgress("remembering", 0, 0, false, ""));
        using (var written = ArchiveReader.Open(PlaceOf(workspace, request.Archive)))
            Remember(workspace, written, stored, look.Now);
        return new WorkspaceSaved(status, stored, true, writer.BytesStored, clock.Elapsed.TotalSeconds);
    }

    // Whether a run that was killed had saved an image under that name.
    private static bool IsSaved(ImageRecord? saved, string name) => saved is not null && saved.Name == name;

    private static List<string> Details(IReadOnlyList<WorkspaceChange> changes)
    {
        const int MostTold = 200;
        var details = changes.Take(MostTold)
            .Select(c => $"{c.Kind.ToString().ToLowerInvariant()} "
                + $"{(c.From.Length > 0 ? $"{c.From} to " : "")}{c.Path}{(c.What.Count > 0 ? $" ({string.Join(", ", c.What)})" : "")}")
                .ToList();
        if (changes.Count > MostTold)
            details.Add($"and {changes.Count - MostTold} more");
        return details;
    }

    /// <summary>Closes a workspace: takes its folder away.</summary>
    /// <param name="folder">The workspace.</param>
    /// <param name="loseChanges">Whether what was not saved is lost; without it a workspace with changes stays.</param>
    /// <param name="archive">The archive, where it is not any more where it was; null for there.</param>
    /// <param name="progress">Told how far it is.</param>
    /// <param name="cancellation">Ends it before anything is taken away.</param>
    /// <returns>How many changes were lost.</returns>
    /// <exception cref="VembarException">It has changes, or it cannot be told whether it has; it stays.</exception>
    public static int Close(string folder, bool loseChanges, string? archive, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var lost = 0;
        if (!loseChanges)
        {
            var status = Status(folder, archive, progress, cancellation);
            if (status.Changes.Count + status.Problems.Count > 0)
                throw VembarException.Input("not-saved",
                    $"'{folder}' has {status.Changes.Count} {(status.Changes.Count == 1 ? "change" : "changes")} that "
                    + $"{(status.Changes.Count == 1 ? "is" : "are")} not saved", Advice.Of("not-saved"),
                    [.. status.Changes.Take(10).Select(c => $"{c.Kind.ToString().ToLowerInvariant()} {c.Path}")]);
        }
        else
        {
            try
            {
                lost = Status(folder, archive, progress, cancellation).Changes.Count;
            }
            catch (VembarException problem) when (problem.Code is not ("not-a-workspace" or "locked"))
            {
                // Whatever it is, it is to go.
            }
        }
        using var workspace = Workspace.Use(folder, toClose: true);
        workspace.Delete(progress);
        return lost;
    }
}
