using System.Diagnostics;
using Vembar.Common;
using Vembar.Images.Editing;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Vembar.Volumes.Targets;

namespace Vembar.Operations.Workspaces;

/// <summary>Lays an image open in a folder. docs/workspaces.md.</summary>
public sealed class WorkspaceOpenHandler(OperationHost host) : IOperationHandler<WorkspaceOpenRequest, WorkspaceOpened>
{
    /// <summary>Lays it open. When it is ended, what was laid is taken away.</summary>
    /// <exception cref="VembarException">Something is in the way; what was laid is taken away.</exception>
    public async Task<WorkspaceOpened> HandleAsync(WorkspaceOpenRequest request, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var (reference, folder, only) = request;
        var clock = Stopwatch.StartNew();
        using var archive = ArchiveReader.Open(reference.Archive, host.Files);
        var image = archive.Find(reference.Which, host.Clock);
        var tree = new ImageTree(archive, image.Root, $"{reference.Archive}#{image.Number}");
        var editor = new TreeEditor(tree) { Clock = host.Clock };
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
            Archive = reference.Archive.FullName,
            ArchiveId = archive.Header.Id,
            Image = image,
            Only = only,
        });
        try
        {
            long files, bytes;
            var warnings = new List<string>();
            using (var target = new FolderTarget(folder, editor, tree, archive, new TargetOptions { Workers = host.Workers }))
            {
                progress.Report(new OperationProgress("looking", 0, 0, false, ""));
                await target.PlanAsync(cancellation).ConfigureAwait(false);
                await target.WriteAsync(
                    (done, total, current) => progress.Report(new OperationProgress("laying open", done, total, true, current)),
                    cancellation).ConfigureAwait(false);
                (files, bytes) = (target.Files, target.Bytes);
                if (target.Lost.Count > 0)
                {
                    var lost = target.Lost.OrderBy(l => l.Key, StringComparer.Ordinal).Select(l => $"{l.Key} ({l.Value})");
                    warnings.Add($"kept beside the files, for this file system cannot: {string.Join(", ", lost)}");
                }
            }
            progress.Report(new OperationProgress("remembering", 0, 0, false, ""));
            var (source, now) = await workspace.WalkAsync(host.Workers, null, cancellation).ConfigureAwait(false);
            using (source)
                workspace.Remember(image, editor, WorkspaceArchive.Descriptors(archive), Workspace.WithStamp(now, null));
            workspace.Dispose();
            return new WorkspaceOpened(folder, image, files, bytes, clock.Elapsed.TotalSeconds, warnings);
        }
        catch (Exception failure)
        {
            workspace.Delete(progress);
            workspace.Dispose();
            if (existed)
                Directory.CreateDirectory(folder);
            if (failure is not VembarException && VembarException.From(failure, "write into", folder) is { } error)
                throw error;
            throw;
        }
    }
}
