using System.Diagnostics;
using Vembar.Common;
using Vembar.Images.Editing;
using Vembar.Images.Records;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Vembar.Volumes.Sources;

namespace Vembar.Operations.Workspaces;

/// <summary>What a look at a workspace found; its files can be read while it is held.</summary>
internal sealed record WorkspaceLook(WorkspaceStatus Status, WorkspaceChanges Changes, FolderSource Source, LaidEntry Now) : IDisposable
{
    /// <summary>Looks at a workspace.</summary>
    /// <exception cref="VembarException">It cannot be read.</exception>
    public static async Task<WorkspaceLook> AtAsync(Workspace workspace, ArchiveReader archive, TreeEditor editor, OperationHost host,
        IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var clock = Stopwatch.StartNew();
        var (laid, touched) = workspace.Laid();
        var metadata = workspace.MetadataStamp;
        var (source, now) =
            await workspace.WalkAsync(host.Workers, files => progress.Report(new OperationProgress("looking", files, 0, false, "")),
            cancellation).ConfigureAwait(false);
        try
        {
            var image = workspace.State.Image;
            var changes = WorkspaceChanges.Find(editor, laid, source, now, workspace.Folder, image.Product.Length > 0,
                touched ? File.ReadAllBytes(workspace.MetadataFile) : null, cancellation);
            var warnings = new List<Notice>();
            if (workspace.IsMoved)
                warnings.Add($"the workspace was laid open at '{workspace.State.Folder}' and was moved or copied since");
            if (changes.Files is var (all, gone) && IsMuch(all, gone))
                warnings.Add($"{gone} of {all} files that were laid open are gone");
            if (archive.Images.FirstOrDefault(i => i.Number == image.Number) is not { } current)
                warnings.Add(new Notice($"image {image.Number} \"{image.Name}\" was dropped since", Advice.Of("save-as")));
            else if (current.Root != image.Root)
                warnings.Add(new Notice($"image {image.Number} \"{current.Name}\" was changed by something else since",
                    Advice.Of("save-as")));
            return new WorkspaceLook(
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

    /// <summary>Whether what is gone is rather a deletion that was cut short than work.</summary>
    public static bool IsMuch(long all, long gone) => gone * 2 > all && gone > 1;
}
