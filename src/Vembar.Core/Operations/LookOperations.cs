using Vembar.Core.Archives;
using Vembar.Core.Servicing;
using Vembar.Core.Servicing.Drivers;
using Vembar.Core.Servicing.Files;
using Vembar.Core.Servicing.FirstStart;
using Vembar.Core.Servicing.Languages;
using Vembar.Core.Servicing.Packages;
using Vembar.Core.Targets;
using Vembar.Core.Trees;
using Vembar.Core.Windows;

namespace Vembar.Core.Operations;

/// <summary>An image with what its hives say.</summary>
/// <param name="Archive">The archive's path.</param>
/// <param name="Image">The record.</param>
/// <param name="Programs">Programs; null when the image holds no Windows.</param>
/// <param name="Drivers">Drivers that were added; null when the image holds no Windows.</param>
/// <param name="InboxDrivers">Drivers that came with Windows; null unless drivers were asked for.</param>
public sealed record ShowResult(string Archive, ImageRecord Image, IReadOnlyList<InstalledProgram>? Programs, IReadOnlyList<ListedDriver>? Drivers, IReadOnlyList<ListedDriver>? InboxDrivers = null)
{
    /// <summary>Of added drivers that were looked into: "whole", or what is wrong with their files; by published name.</summary>
    public IReadOnlyDictionary<string, string> DriverFiles { get; init; } = new Dictionary<string, string>();

    /// <summary>Packages, also those whose place others took; null without Windows.</summary>
    public IReadOnlyList<InstalledPackage>? Packages { get; init; }

    /// <summary>Languages, formats, keyboard, time zone; null without Windows.</summary>
    public LocaleSettings? Locale { get; init; }

    /// <summary>Apps that every new user gets; null without Windows.</summary>
    public IReadOnlyList<ProvisionedApp>? Apps { get; init; }

    /// <summary>What tidying would do, rule by rule; null unless it was asked for.</summary>
    public IReadOnlyList<ChangeOutcome>? Tidy { get; init; }

    /// <summary>Commands for the first start; null without Windows.</summary>
    public IReadOnlyList<FirstStartCommand>? FirstStart { get; init; }

    /// <summary>What of its hives and records is damaged; what is sound is shown all the same.</summary>
    public IReadOnlyList<string> Problems { get; init; } = [];
}

/// <summary>Reads what an image holds.</summary>
public static class ShowOperation
{
    /// <summary>Reads an image's record alone.</summary>
    /// <param name="reference">The image.</param>
    /// <exception cref="VembarException">There is no such image.</exception>
    public static ImageRecord Record(ImageReference reference)
    {
        using var archive = ArchiveReader.Open(reference.Archive);
        return archive.Find(reference.Which);
    }

    /// <summary>Reads an image's record, programs and drivers.</summary>
    /// <param name="reference">The image.</param>
    /// <param name="lookIntoDrivers">Whether the files of added drivers are compared with their security catalogs; that reads them.</param>
    /// <param name="planTidying">Whether it is tried what tidying would take out.</param>
    /// <exception cref="VembarException">There is no such image, or it is damaged.</exception>
    public static ShowResult Run(ImageReference reference, bool lookIntoDrivers = false, bool planTidying = false)
    {
        using var archive = ArchiveReader.Open(reference.Archive);
        var image = archive.Find(reference.Which);
        var tree = new ImageTree(archive, image.Root, $"{reference.Archive}#{image.Number}");
        if (WindowsInstall.FindFolder(tree) is not { } folder)
            return new ShowResult(reference.Archive.Path, image, null, null);
        var problems = new List<string>();
        // What is damaged is told, once for all that stumbles over it; the rest is shown.
        void Tell(string problem)
        {
            const int MostTold = 20;
            if (problems.Count < MostTold && !problems.Contains(problem))
                problems.Add(problem);
        }
        T? Sound<T>(Func<T?> read) where T : class
        {
            try
            {
                return read();
            }
            catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
            {
                Tell(problem.Message);
                return null;
            }
        }
        var software = Sound(() => WindowsInstall.OpenHive(tree, folder, "SOFTWARE", Tell));
        var system = Sound(() => WindowsInstall.OpenHive(tree, folder, "SYSTEM", Tell));
        var drivers = system is null ? null : Sound(() => DriverDatabase.Read(system, inbox: lookIntoDrivers).ToLookup(d => d.IsAdded));
        return new ShowResult(
            reference.Archive.Path, image, software is null ? null : Sound(() => InstalledProgram.Read(software)), drivers is null ? null : [.. drivers[true]], lookIntoDrivers && drivers is not null ? [.. drivers[false]] : null)
        {
            DriverFiles = (lookIntoDrivers ? Sound(() => LookInto(tree)) : null) ?? [],
            Packages = Sound(() => InstalledPackage.Read(tree, WindowsPath.Root.Child(folder))),
            Locale = system is null ? null : Sound(() => LocaleSettings.Read(tree, system)),
            Apps = software is null ? null : Sound(() => ProvisionedApp.Read(software)),
            Tidy = planTidying ? Sound(() => PlanTidying(tree)) : null,
            FirstStart = Sound(() => FirstStartScript.Read(tree, WindowsPath.Root.Child(folder)).Commands),
            Problems = problems,
        };
    }

    private static List<ChangeOutcome> PlanTidying(ImageTree tree)
    {
        // It is all done in the tree that is edited, which is then forgotten.
        var context = new ServiceContext(new TreeEditor(tree));
        return [.. new TidyChange([.. TidyRule.All.Select(r => r.Name)]).Apply(context)];
    }

    private static Dictionary<string, string> LookInto(ImageTree tree)
    {
        var context = new ServiceContext(new TreeEditor(tree)) { MayChange = false };
        return DriverStore.Open(context).Store is { } store ? store.Listed.ToDictionary(l => l.Inf, l => FilesOf(store, l)) : [];
    }

    private static string FilesOf(DriverStore store, ListedDriver listed)
    {
        if (store.Fit(listed) is not { } driver)
            return "its INF cannot be read";
        if (driver.MissingFiles is { Count: > 0 } missing)
            return $"missing: {string.Join(", ", missing)}";
        // Whose signature it is was settled when it was let in.
        var signature = DriverTrust.Nobody.Check(driver);
        return signature.State is SignatureState.WrongHash or SignatureState.BadCatalog or SignatureState.BadSignature ? signature.Why : "whole";
    }
}

/// <summary>An entry with its path.</summary>
public sealed record FoundEntry(WindowsPath Path, TreeEntry Entry);

/// <summary>Finds files in an image.</summary>
public static class FilesOperation
{
    /// <summary>What is in a folder, or what matches a pattern.</summary>
    /// <param name="tree">The image's tree.</param>
    /// <param name="path">A folder, a file or a pattern; null for the root.</param>
    /// <param name="deep">Whether to go into folders.</param>
    /// <exception cref="VembarException">There is nothing at that path, with the nearest name.</exception>
    public static IEnumerable<FoundEntry> Find(ImageTree tree, string? path, bool deep)
    {
        if (path is not null && Glob.IsPattern(path))
        {
            var glob = Glob.Parse(path);
            var start = glob.FixedPart();
            var from = tree.Find(start);
            return from is { Kind: EntryKind.Folder } ? tree.Walk(from, start).Where(e => glob.Matches(e.Path.Parts)).Select(e => new FoundEntry(e.Path, e.Entry)) : [];
        }
        var at = WindowsPath.Parse(path ?? "/");
        var entry = Locate(tree, at);
        if (entry.Kind != EntryKind.Folder)
            return [new FoundEntry(at, entry)];
        return deep ? tree.Walk(entry, at).Select(e => new FoundEntry(e.Path, e.Entry)) : tree.Entries(entry, at).Select(e => new FoundEntry(at.Child(e.Name), e));
    }

    /// <summary>The entry at a path.</summary>
    /// <exception cref="VembarException">There is none, with the nearest name.</exception>
    public static TreeEntry Locate(ImageTree tree, WindowsPath path)
    {
        if (tree.Find(path) is { } entry)
            return entry;
        // As deep as the path is right, then the name nearest to the wrong part.
        var good = WindowsPath.Root;
        foreach (var part in path.Parts)
        {
            if (tree.Find(good.Child(part)) is null)
            {
                var near = tree.Names(good).Select(n => (Name: n, Distance: Likeness.Distance(n, part))).Where(n => n.Distance <= Math.Max(2, part.Length / 3)).OrderBy(n => n.Distance).FirstOrDefault();
                throw VembarException.Input("no-such-path", $"{tree.Shown} has no '{path}'", near.Name is null ? $"List what there is with `vembar files {tree.Shown} \"{good}\"`." : $"Did you mean '{good.Child(near.Name)}'?");
            }
            good = good.Child(part);
        }
        throw VembarException.Input("no-such-path", $"{tree.Shown} has no '{path}'");
    }
}

/// <summary>What was taken out.</summary>
/// <param name="Files">How many files and links.</param>
/// <param name="Bytes">How many bytes.</param>
/// <param name="Paths">What was taken, at the top.</param>
/// <param name="Warnings">What should be known.</param>
public sealed record TakeResult(long Files, long Bytes, IReadOnlyList<string> Paths, IReadOnlyList<string> Warnings);

/// <summary>Takes files out of an image.</summary>
public static class TakeOperation
{
    /// <summary>Takes files and folders into a folder, which is made when there is none.</summary>
    /// <exception cref="VembarException">Something is not there or in the way; nothing is left behind.</exception>
    public static TakeResult Run(ImageReference reference, IReadOnlyList<string> paths, string to, IProgress<OperationProgress> progress, CancellationToken cancellation)
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
            problems.Add(VembarException.Input("same-name", $"two of these are named '{twin.Key}': {string.Join(", ", twin.Select(t => t.Path))}", "Take them in two runs, to two folders."));
        foreach (var entry in found.Where(f => Path.Exists(Path.Combine(to, f.Entry.Name))))
            problems.Add(VembarException.Input("target-exists", $"'{Path.Combine(to, entry.Entry.Name)}' is there already", "Choose another folder with --to."));
        if (File.Exists(to))
            problems.Add(VembarException.Input("not-a-folder", $"'{to}' is a file", "Name a folder with --to."));
        Checks.Throw(problems);
        var isNew = !Directory.Exists(to);
        try
        {
            Directory.CreateDirectory(to);
            using var target = new FolderTarget(to, new TreeEditor(tree, found.Select(f => (f.Path, f.Entry))), tree, archive, keepExisting: true, key: null);
            target.Plan(cancellation);
            target.Write((done, total, current) => progress.Report(new OperationProgress("writing files", done, total, true, current)), cancellation);
            return new TakeResult(target.Files, target.Bytes, [.. found.Select(f => f.Path.ToString())],
                target.Lost.Count == 0 ? [] : [$"this file system cannot keep: {string.Join(", ", target.Lost.Select(l => $"{l.Key} ({l.Value})"))}"]);
        }
        catch (Exception failure)
        {
            if (isNew && Directory.Exists(to) && !Directory.EnumerateFileSystemEntries(to).Any())
                Directory.Delete(to);
            if (failure is not VembarException && VembarException.From(failure is AggregateException { InnerExceptions: [var first, ..] } ? first : failure, "write into", to) is { } error)
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
        return found.Count > 0 ? found : throw VembarException.Input("no-such-path", $"nothing in {tree.Shown} matches '{path}'", "'**' stands for any number of folders: '**/*.txt'.");
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
            throw VembarException.Input("not-a-file", $"'{at}' is not a file, so it cannot be printed", "Name one file, or take the folder with --to DIR.");
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
