using System.Diagnostics;
using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Operations.Service;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Vembar.Store.Writing;
using Vembar.Windows.Install;

namespace Vembar.Operations.Workspaces;

/// <summary>Saves what was changed in a workspace: as a new image, or in the image's place.</summary>
public sealed class WorkspaceSaveHandler(OperationHost host) : IOperationHandler<WorkspaceSaveRequest, WorkspaceSaved>
{
    /// <summary>Saves.</summary>
    /// <exception cref="VembarException">Something is in the way; archive and workspace are as they were.</exception>
    /// <exception cref="OperationCanceledException">It was interrupted; archive and workspace are as they were.</exception>
    public async Task<WorkspaceSaved> HandleAsync(WorkspaceSaveRequest request, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var clock = Stopwatch.StartNew();
        if (request.As is not null)
            Checks.ImageName(request.As);
        Checks.VersionText(request.Title.Version ?? "");
        using var workspace = Workspace.Use(request.Folder);
        ImageRecord? saved;
        using (var reader = WorkspaceArchive.OpenArchive(workspace, request.Archive, host.Files))
        {
            saved = WorkspaceArchive.FinishSaving(workspace, reader);
            if (request.As is not null && !IsSaved(saved, request.As) && !string.IsNullOrEmpty(request.Title.Version))
                Checks.TitleIsFree(reader, request.As, request.Title.Version);
            if (request.As is null && reader.Images.FirstOrDefault(i => i.Number == workspace.State.Image.Number) is { } replaced)
                Checks.MayReplace(reader, replaced, request.Title.Version);
        }
        using var writer = await ArchiveWriter.OpenAsync(WorkspaceArchive.PlaceOf(workspace, request.Archive),
            host.WriterOptions(request.Wait) with { Effort = request.Effort }, cancellation).ConfigureAwait(false);
        WorkspaceArchive.CheckArchive(writer.Base, workspace);
        var image = workspace.State.Image;
        var editor = WorkspaceArchive.Editor(writer.Base, image, workspace.State, host.Clock);
        using var look = await WorkspaceLook.AtAsync(workspace, writer.Base, editor, host, progress, cancellation).ConfigureAwait(false);
        var (status, changes) = (look.Status, look.Changes);
        if (status.Problems.Count > 0)
            throw VembarException.Input("workspace-problems", $"'{request.Folder}' cannot be saved: {status.Problems[0]}",
                "Fix that in the workspace, and save again.", status.Problems.Count > 1 ? status.Problems : []);
        if (!request.AcceptRemovals && changes.Files is var (all, gone) && WorkspaceLook.IsMuch(all, gone))
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
        var entry = new HistoryEntry { Time = host.Now, Action = "workspace", Details = Details(status.Changes) };
        var notes = new List<string>();
        var title = request.Title;
        if (request.As is not null && Checks.VersionFor(writer.Base, request.As, title.Version, host, notes) is { Length: > 0 } version)
            title = title with { Version = version };
        // What was said of the image meanwhile stays.
        var before = request.As is null && current?.Root == image.Root ? current : image;
        var record = title.In(ServicedRecord.Store(before, request.As, editor, writer, entry,
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
            stored = writer.CommitImage(record, request.As is null ? image.Number : null,
                Checks.Change("workspace", image.Number, record));
        }
        progress.Report(new OperationProgress("remembering", 0, 0, false, ""));
        try
        {
            using var written = ArchiveReader.Open(WorkspaceArchive.PlaceOf(workspace, request.Archive), host.Files);
            WorkspaceArchive.Remember(workspace, written, stored, look.Now);
        }
        catch (Exception failure) when (VembarException.From(failure, "write", request.Folder) is { } problem)
        {
            throw new VembarException(problem.Kind, problem.Code,
                $"image {stored.Number} \"{stored.Name}\" was saved, and '{request.Folder}' "
                + $"could not note that: {problem.Message}", Advice.Of("save-once-more"), problem.Details);
        }
        return new WorkspaceSaved(status, stored, true, writer.BytesStored, clock.Elapsed.TotalSeconds) { Notes = notes };
    }

    // Whether a run that was killed had saved an image under that name.
    private static bool IsSaved(ImageRecord? saved, string name) => saved is not null && saved.Name == name;

    private static List<string> Details(IReadOnlyList<WorkspaceChange> changes)
    {
        const int MostTold = 200;
        var details = changes.Take(MostTold).Select(Detail).ToList();
        if (changes.Count > MostTold)
            details.Add($"and {changes.Count - MostTold} more");
        return details;
    }

    private static string Detail(WorkspaceChange change)
    {
        var from = change.From.Length > 0 ? $"{change.From} to " : "";
        var what = change.What.Count > 0 ? $" ({string.Join(", ", change.What)})" : "";
        return $"{change.Kind.ToString().ToLowerInvariant()} {from}{change.Path}{what}";
    }
}
