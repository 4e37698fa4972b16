using Vembar.Common;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Store.Hashing;
using Vembar.Store.Reading;
using Vembar.Windows.Install;
using Vembar.Windows.Registry;
using Vembar.Windows.Servicing.Drivers;
using Vembar.Windows.Servicing.Packages;

namespace Vembar.Operations.Diff;

/// <summary>Compares two images, of one archive or of two, going only into folders that differ.</summary>
public sealed class DiffHandler(OperationHost host) : IOperationHandler<DiffRequest, DiffResult>
{
    private static readonly string[] s_hives = ["SYSTEM", "SOFTWARE", "SAM", "SECURITY", "DEFAULT", "DRIVERS"];

    /// <summary>Compares.</summary>
    /// <exception cref="VembarException">An image cannot be found or read.</exception>
    public Task<DiffResult> HandleAsync(DiffRequest request, IProgress<OperationProgress> progress, CancellationToken cancellation) =>
        Task.Run(() => Compare(request.From, request.To, cancellation), cancellation);

    private DiffResult Compare(ImageReference from, ImageReference to, CancellationToken cancellation)
    {
        using var first = ArchiveReader.Open(from.Archive, host.Files);
        // One archive is read once: what is expanded for the one image serves the other.
        using var other = from.Archive == to.Archive ? null : ArchiveReader.Open(to.Archive, host.Files);
        var second = other ?? first;
        var (a, b) = (first.Find(from.Which, host.Clock), second.Find(to.Which, host.Clock));
        var left = new ImageTree(first, a.Root, from.ToString());
        var right = new ImageTree(second, b.Root, to.ToString());
        var added = new List<string>();
        var removed = new List<string>();
        var changed = new List<ChangedPath>();
        void All(ImageTree tree, TreeEntry entry, WindowsPath path, List<string> list)
        {
            list.Add(path.ToString());
            if (entry.Kind == EntryKind.Folder)
                list.AddRange(tree.Walk(entry, path).Select(e => e.Path.ToString()));
        }
        void Folder(TreeEntry x, TreeEntry y, WindowsPath path)
        {
            cancellation.ThrowIfCancellationRequested();
            if (x.Folder == y.Folder)
                return;
            IReadOnlyList<TreeEntry> xs = left.List(x, path), ys = right.List(y, path);
            int i = 0, j = 0;
            while (i < xs.Count || j < ys.Count)
            {
                var order = i == xs.Count ? 1 : j == ys.Count ? -1 : string.CompareOrdinal(xs[i].Name, ys[j].Name);
                if (order < 0)
                    All(left, xs[i], path.Child(xs[i++].Name), removed);
                else if (order > 0)
                    All(right, ys[j], path.Child(ys[j++].Name), added);
                else
                {
                    Entry(xs[i], ys[j], path.Child(xs[i].Name));
                    i++;
                    j++;
                }
            }
        }
        void Entry(TreeEntry x, TreeEntry y, WindowsPath path)
        {
            var what = Differences(x, y);
            if (what.Count > 0)
                changed.Add(new ChangedPath(path.ToString(), what));
            if (x.Kind == EntryKind.Folder && y.Kind == EntryKind.Folder)
                Folder(x, y, path);
            else if (x.Kind == EntryKind.Folder)
                removed.AddRange(left.Walk(x, path).Select(e => e.Path.ToString()));
            else if (y.Kind == EntryKind.Folder)
                added.AddRange(right.Walk(y, path).Select(e => e.Path.ToString()));
        }
        if (a.Root != b.Root)
            Entry(left.Root, right.Root, WindowsPath.Root);
        var (registry, programs, drivers) = CompareWindows(left, right, cancellation);
        var (packages, features) = ComparePackages(left, right);
        return new DiffResult(a, b, added, removed, changed, registry, programs, drivers, packages, features);
    }

    private static (ChangedNames?, ChangedNames?) ComparePackages(ImageTree left, ImageTree right)
    {
        if (WindowsInstall.FindFolder(left) is not { } x || WindowsInstall.FindFolder(right) is not { } y)
            return (null, null);
        var (a, b) = (InUse(left, x), InUse(right, y));
        return (Names(a.Select(p => p.Title), b.Select(p => p.Title)), Names(On(a), On(b)));

        static List<InstalledPackage> InUse(ImageTree tree, string windows) =>
            [.. InstalledPackage.Read(tree, WindowsPath.Root.Child(windows)).Where(p => p.ReplacedBy is null)];
        static IEnumerable<string> On(IEnumerable<InstalledPackage> packages) =>
            packages.SelectMany(p => p.Features).Where(f => f.IsOn).Select(f => f.Feature.Name);
    }

    private static List<string> Differences(TreeEntry x, TreeEntry y)
    {
        var what = new List<string>();
        void If(bool differs, string word)
        {
            if (differs)
                what.Add(word);
        }
        If(x.Kind != y.Kind, "kind");
        If(x.Content?.Hash != y.Content?.Hash || x.LinkTarget != y.LinkTarget, "content");
        If(x.Length != y.Length, "size");
        If(x.Modified != y.Modified || x.Created != y.Created, "time");
        If(x.Attributes != y.Attributes, "attributes");
        If(x.Security != y.Security, "security");
        If(!x.Streams.Select(s => (s.Name, s.Content.Hash)).SequenceEqual(y.Streams.Select(s => (s.Name, s.Content.Hash))), "streams");
        If(x.Owner != y.Owner, "owner");
        If(!Bytes(x.Reparse).SequenceEqual(Bytes(y.Reparse)) || !Bytes(x.ObjectId).SequenceEqual(Bytes(y.ObjectId))
            || x.ShortName != y.ShortName || x.LinkGroup != y.LinkGroup
            || x.CaseSensitive != y.CaseSensitive || x.Compaction != y.Compaction || !Same(x.ExtendedAttributes, y.ExtendedAttributes)
            || !Same(x.PosixAttributes, y.PosixAttributes), "other");
        return what;
    }

    private static ReadOnlySpan<byte> Bytes(byte[]? bytes) => bytes;

    private static bool Same(IReadOnlyList<NamedValue> x, IReadOnlyList<NamedValue> y) =>
        x.Count == y.Count
        && x.Zip(y).All(p => p.First.Name == p.Second.Name && p.First.Flags == p.Second.Flags
        && p.First.Value.AsSpan().SequenceEqual(p.Second.Value));

    private static (IReadOnlyList<ChangedValue>?, ChangedNames?, ChangedNames?) CompareWindows(ImageTree left, ImageTree right,
        CancellationToken cancellation)
    {
        if (WindowsInstall.FindFolder(left) is not { } x || WindowsInstall.FindFolder(right) is not { } y)
            return (null, null, null);
        var values = new List<ChangedValue>();
        ChangedNames programs = new([], []), drivers = new([], []);
        foreach (var name in s_hives)
        {
            var before = left.Find(WindowsInstall.HivePath(x, name));
            var after = right.Find(WindowsInstall.HivePath(y, name));
            if (before?.Content is null || after?.Content is null || before.Content.Hash == after.Content.Hash)
                continue;
            // Most of two hives is the same as a rule, and held once.
            var known = new Dictionary<ChunkId, byte[]>();
            RegistryHive Open(ImageTree tree, FileContent content, WindowsPath path) =>
                RegistryHive.OpenShared(tree.ReadShared(content, path, RegistryHive.Longest, known), $"{tree.DisplayName}: '{path}'");
            var a = Open(left, before.Content, WindowsInstall.HivePath(x, name));
            var b = Open(right, after.Content, WindowsInstall.HivePath(y, name));
            known.Clear();
            a.Compare(b, difference => values.Add(new ChangedValue(name, difference.Key, difference.Value, difference.What)), cancellation);
            if (name == "SOFTWARE")
                programs = Names(InstalledProgram.Read(a).Select(p => $"{p.Name} {p.Version}".Trim()),
                    InstalledProgram.Read(b).Select(p => $"{p.Name} {p.Version}".Trim()));
            if (name == "SYSTEM")
                drivers = Names(DriverDatabase.Read(a).Select(d => $"{d.OriginalInf} {d.Version}"),
                    DriverDatabase.Read(b).Select(d => $"{d.OriginalInf} {d.Version}"));
        }
        return (values, programs, drivers);
    }

    private static ChangedNames Names(IEnumerable<string> before, IEnumerable<string> after)
    {
        var (x, y) = (before.ToList(), after.ToList());
        return new ChangedNames([.. y.Except(x)], [.. x.Except(y)]);
    }
}
