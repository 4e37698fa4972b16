using Vembar.Common;
using Vembar.Images.Editing;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Store.Reading;
using Vembar.Volumes.Targets;

namespace Vembar.Operations.Files;

/// <summary>Takes files out of an image.</summary>
public static class TakeOperation
{
    /// <summary>Takes files and folders into a folder, which is made when there is none.</summary>
    /// <exception cref="VembarException">Something is not there or in the way; nothing is left behind.</exception>
    public static TakeResult Run(ImageReference reference, IReadOnlyList<string> paths, string to, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        using var archive = ArchiveReader.Open(reference.Archive);
        var image = archive.Find(reference.Which);
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
                keepExisting: true, key: null);
            target.Plan(cancellation);
            target.Write((done, total, current) => progress.Report(new OperationProgress("writing files", done, total, true, current)),
                cancellation);
            return new TakeResult(target.Files, target.Bytes, [.. found.Select(f => f.Path.ToString())],
                target.Lost.Count == 0 ? []
                : [$"this file system cannot keep: {string.Join(", ", target.Lost.Select(l => $"{l.Key} ({l.Value})"))}"]);
        }
        catch (Exception failure)
        {
            if (isNew && Directory.Exists(to) && !Directory.EnumerateFileSystemEntries(to).Any())
                Directory.Delete(to);
            if (failure is not VembarException
                && VembarException.From(failure is AggregateException { InnerExceptions: [var first, ..] } ? first : failure, "write into",
                to) is { } error)
                throw error;
            throw;
        }
    }

    private static List<FoundEntry> Matches(ImageTree tree, string path)
    {
        if (!Glob.IsPattern(path))
        {
            var at = WindowsPath.Parse(path);
            return at.IsRoot ? [.. FilesOperation.Find(tree, null, false)] : [new FoundEntry(at, FilesOperation.Locate(tree, at))];
        }
        var found = FilesOperation.Find(tree, path, false).ToList();
        return found.Count > 0 ? found
            : throw VembarException.Input("no-such-path", $"nothing in {tree.DisplayName} matches '{path}'",
            "'**' stands for any number of folders: '**/*.txt'.");
    }

    /// <summary>Writes one file's content to a stream.</summary>
    /// <exception cref="VembarException">It is not there, not a file, or damaged.</exception>
    public static void Print(ImageReference reference, string path, Stream to)
    {
        using var archive = ArchiveReader.Open(reference.Archive);
        var image = archive.Find(reference.Which);
        var tree = new ImageTree(archive, image.Root, $"{reference.Archive}#{image.Number}");
        var at = WindowsPath.Parse(path);
        if (FilesOperation.Locate(tree, at) is not { Content: { } content })
            throw VembarException.Input("not-a-file", $"'{at}' is not a file, so it cannot be printed",
                Advice.Of("not-a-file"));
        var zeros = new byte[1 << 16];
        var end = 0L;
        void Fill(long until)
        {
            for (; end < until; end += Math.Min(until - end, zeros.Length))
                to.Write(zeros.AsSpan(0, (int)Math.Min(until - end, zeros.Length)));
        }
        tree.Pieces(content, () => at, (bytes, offset) =>
        {
            Fill(offset);
            to.Write(bytes);
            end = offset + bytes.Length;
        });
        Fill(content.Length);
    }
}
