using Vembar.Common;
using Vembar.Images.Editing;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Store.Reading;
using Vembar.Volumes.Targets;

namespace Vembar.Operations.Files;

/// <summary>Takes files out of an image.</summary>
public sealed class TakeHandler(OperationHost host) : IOperationHandler<TakeRequest, TakeResult>
{
    /// <summary>Takes files and folders into a folder, which is made when there is none.</summary>
    /// <exception cref="VembarException">Something is not there or in the way; nothing is left behind.</exception>
    public async Task<TakeResult> HandleAsync(TakeRequest request, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var (reference, paths, to) = request;
        using var archive = ArchiveReader.Open(reference.Archive, host.Files);
        var image = archive.Find(reference.Which, host.Clock);
        var tree = new ImageTree(archive, image.Root, $"{reference.Archive}#{image.Number}");
        var problems = new List<VembarException>();
        var found = new List<FoundEntry>();
        foreach (var path in paths)
        {
            if (Checks.Collect(problems, () => Matches(tree, path)) is { } matches)
                found.AddRange(matches.Where(m => found.All(f => !f.Path.Equals(m.Path))));
        }
        foreach (var twin in found.GroupBy(f => f.Entry.Name, StringComparer.Ordinal).Where(g => g.Count() > 1))
            problems.Add(VembarException.Input("same-name", $"two of these are named '{twin.Key}': "
                + $"{string.Join(", ", twin.Select(t => t.Path))}", "Take them in two runs, to two folders."));
        foreach (var entry in found.Where(f => Path.Exists(Path.Combine(to, f.Entry.Name))))
            problems.Add(VembarException.Input("target-exists", $"'{Path.Combine(to, entry.Entry.Name)}' is there already",
                Advice.Of("choose-target")));
        if (File.Exists(to))
            problems.Add(VembarException.Input("not-a-folder", $"'{to}' is a file", Advice.Of("not-a-folder")));
        Checks.Throw(problems);
        var isNew = !Directory.Exists(to);
        try
        {
            Directory.CreateDirectory(to);
            using var target = new FolderTarget(to, new TreeEditor(tree, found.Select(f => (f.Path, f.Entry))), tree, archive,
                new TargetOptions { KeepExisting = true, Workers = host.Workers });
            await target.PlanAsync(cancellation).ConfigureAwait(false);
            await target.WriteAsync(
                (done, total, current) => progress.Report(new OperationProgress("writing files", done, total, true, current)),
                cancellation).ConfigureAwait(false);
            return new TakeResult(target.Files, target.Bytes, [.. found.Select(f => f.Path.ToString())],
                target.Lost.Count == 0 ? []
                : [$"not carried over, for this file system cannot keep it: "
                    + $"{string.Join(", ", target.Lost.Select(l => $"{l.Key} ({l.Value:#,0})"))}"]);
        }
        catch (Exception failure)
        {
            if (isNew && Directory.Exists(to) && !Directory.EnumerateFileSystemEntries(to).Any())
                Directory.Delete(to);
            if (failure is not VembarException
                && VembarException.From(failure, "write into", to) is { } error)
                throw error;
            throw;
        }
    }

    private static List<FoundEntry> Matches(ImageTree tree, string path)
    {
        if (!Glob.IsPattern(path))
        {
            var at = WindowsPath.Parse(path);
            return at.IsRoot ? [.. FileSearch.Find(tree, null, false)] : [new FoundEntry(at, FileSearch.Locate(tree, at))];
        }
        return [.. FileSearch.Find(tree, path, false)];
    }
}
