using System.Runtime.InteropServices;
using Microsoft.Win32.SafeHandles;
using Vembar.Core.Archives;
using Vembar.Core.Content;
using Vembar.Core.Trees;
using Vembar.Native;

namespace Vembar.Core.Targets;

/// <summary>
/// Writes a tree into a folder of Linux. Folders come first, then files in the order in which their content lies in the
/// archive (each block is expanded once), then links, and times and permissions of folders at the end. What it made is
/// taken away again when it does not come to its end.
/// </summary>
internal sealed class FolderTarget : IDisposable
{
    private readonly TreeEditor _tree;
    private readonly ImageTree _image;
    private readonly ArchiveReader _archive;
    private readonly SafeFileHandle _root;
    private readonly bool _keepExisting;
    private readonly bool _asRoot = Posix.IsRoot;
    private readonly List<Item> _folders = [];
    private readonly List<Item> _files = [];
    private readonly List<Item> _links = [];
    // The first names of those among the links that are further names of a file.
    private readonly Dictionary<TreeEditor.Node, Item> _firstNames = [];
    private readonly Dictionary<(ulong Group, ChunkId Content), Item> _groups = [];
    private readonly Dictionary<string, long> _lost = [];
    private readonly Lock _gate = new();

    // A node with what a deployment needs of it. There is one for every file, so it is no object of its own.
    private readonly record struct Item(TreeEditor.Node Node)
    {
        /// <summary>The path from the target's root as Linux takes it, with a NUL at the end.</summary>
        public byte[] Raw => PosixPath.Of(Node, static n => n.Parent, static n => n.Entry.Name);

        public WindowsPath Path => Node.Path;
        public TreeEntry Entry => Node.Entry;
        public bool Made => Node.Placement == TreeEditor.Placement.Made;
        public bool Kept => Node.Placement == TreeEditor.Placement.Kept;

        public void Mark(bool made) => Node.Placement = made ? TreeEditor.Placement.Made : TreeEditor.Placement.Kept;
    }

    public FolderTarget(string path, TreeEditor tree, ImageTree image, ArchiveReader archive, bool keepExisting)
    {
        _tree = tree;
        _image = image;
        _archive = archive;
        _keepExisting = keepExisting;
        _root = Posix.OpenFolder(null, PosixName.Encode(path), followLink: true);
    }

    public long Files { get; private set; }

    public long Bytes { get; private set; }

    /// <summary>Existing files that were left as they are.</summary>
    public IEnumerable<string> Kept => _files.Concat(_links).Where(f => f.Kept).Select(f => f.Path.ToString());

    /// <summary>What this file system could not keep, each with how many entries it concerns.</summary>
    public IReadOnlyDictionary<string, long> Lost => _lost;

    /// <summary>Plans what to write.</summary>
    /// <exception cref="VembarException">Names cannot be written here; all told together.</exception>
    public void Plan(CancellationToken cancellation)
    {
        var problems = new List<VembarException>();
        _tree.LoadAll(cancellation);
        Plan(_tree.Root, problems, cancellation);
        if (problems.Count > 0)
            throw VembarException.Together(problems);
    }

    private void Plan(TreeEditor.Node folder, List<VembarException> problems, CancellationToken cancellation)
    {
        cancellation.ThrowIfCancellationRequested();
        _folders.Add(new Item(folder));
        foreach (var child in _tree.Children(folder))
        {
            var entry = child.Entry;
            if (PosixName.Length(entry.Name) is 0 or > 256)
            {
                problems.Add(VembarException.Input("name-not-possible", $"'{child.Path}' has a name that Linux cannot write", "Deploy to a Windows volume, or rename it in the image."));
                continue;
            }
            if (entry.Kind == EntryKind.Folder)
            {
                Plan(child, problems, cancellation);
                continue;
            }
            var item = new Item(child);
            if (entry.LinkGroup != 0 && entry.Content is not null && _groups.TryGetValue((entry.LinkGroup, entry.Content.Hash), out var first))
            {
                _links.Add(item);
                _firstNames[child] = first;
                continue;
            }
            if (entry.Kind == EntryKind.Link)
                _links.Add(item);
            else
                _files.Add(item);
            if (entry.LinkGroup != 0 && entry.Content is not null)
                _groups[(entry.LinkGroup, entry.Content.Hash)] = item;
        }
    }

    public void Write(Action<long, long, string> report, CancellationToken cancellation)
    {
        try
        {
            var levels = Levels();
            foreach (var level in levels.Skip(1))
            {
                OnAllCores(level, folder => In(folder.Raw, (parent, name) =>
                {
                    folder.Mark(Posix.MakeFolder(parent, name, 0x1C0));
                    if (folder.Kept)
                        Posix.OpenFolder(parent, name).Dispose();
                }), cancellation);
            }
            WriteFiles(report, cancellation);
            foreach (var link in _links)
            {
                cancellation.ThrowIfCancellationRequested();
                WriteLink(link);
            }
            // The deepest first: without root's rights, what is in a folder may not be reached any more once it has its own.
            foreach (var level in levels.AsEnumerable().Reverse())
            {
                OnAllCores(level, folder =>
                {
                    if (folder.Made || (folder.Node.Parent is null && !_keepExisting))
                        Finish(folder);
                }, cancellation);
            }
        }
        catch
        {
            Undo();
            throw;
        }
    }

    // The folders by their depth, the root first.
    private List<List<Item>> Levels()
    {
        var levels = new List<List<Item>>();
        foreach (var folder in _folders)
        {
            var depth = 0;
            for (var at = folder.Node; at.Parent is not null; at = at.Parent)
                depth++;
            while (levels.Count <= depth)
                levels.Add([]);
            levels[depth].Add(folder);
        }
        return levels;
    }

    private static void OnAllCores(List<Item> items, Action<Item> work, CancellationToken cancellation) =>
        Crew.Each(items.Count, i => work(items[i]), cancellation);

    private void WriteFiles(Action<long, long, string> report, CancellationToken cancellation)
    {
        var total = _files.Sum(f => f.Entry.Length);
        var places = new long[_files.Count];
        Parallel.For(0, places.Length, i => places[i] = _archive.OrderOf(_files[i].Entry.Content));
        places.AsSpan().Sort(CollectionsMarshal.AsSpan(_files));
        // Each run lies in one block, and goes to one thread.
        const int LongestRun = 512;
        var runs = new List<(int Start, int End)>();
        for (var i = 0; i < places.Length; i++)
        {
            if (i == 0 || places[i] != places[i - 1] || i - runs[^1].Start >= LongestRun)
                runs.Add((i, i));
            runs[^1] = (runs[^1].Start, i + 1);
        }
        // Those that take long begin first: at the end, all others would wait for one.
        const long Long = 16 << 20;
        long BytesOf((int Start, int End) run)
        {
            var bytes = 0L;
            foreach (var item in CollectionsMarshal.AsSpan(_files)[run.Start..run.End])
                bytes += item.Entry.Length;
            return bytes;
        }
        runs = [.. runs.OrderByDescending(r => BytesOf(r) is > Long and var bytes ? bytes : 0)];
        var done = 0L;
        Crew.Each(runs.Count, run =>
        {
            foreach (var item in CollectionsMarshal.AsSpan(_files)[runs[run].Start..runs[run].End])
            {
                cancellation.ThrowIfCancellationRequested();
                WriteFile(item);
                report(Interlocked.Add(ref done, item.Entry.Length), total, item.Entry.Name);
            }
        }, cancellation);
        Files = _files.Count(f => f.Made);
        Bytes = _files.Where(f => f.Made).Sum(f => f.Entry.Length);
    }

    private void WriteFile(Item item)
    {
        In(item.Raw, (parent, name) =>
        {
            SafeFileHandle file;
            try
            {
                file = Posix.CreateNew(parent, name, 0x180);
            }
            catch (NativeException failure) when (failure.Errno == Errno.Exists && _keepExisting)
            {
                item.Mark(made: false);
                return;
            }
            item.Mark(made: true);
            using (file)
            {
                var entry = item.Entry;
                if (entry.New is { } fresh)
                    Posix.Write(file, fresh.Bytes ?? File.ReadAllBytes(fresh.Path!), 0);
                else
                {
                    var end = 0L;
                    _image.Pieces(entry.Content!, () => item.Path, (bytes, at) =>
                    {
                        Posix.Write(file, bytes, at);
                        end = at + bytes.Length;
                    });
                    if (end < entry.Length)
                        RandomAccess.SetLength(file, entry.Length);
                }
                Dress(item, parent, name, file);
                if (entry.Modified is { } time)
                    Posix.SetTime(file, time.ToPosix());
            }
        });
    }

    private void WriteLink(Item link) => In(link.Raw, (parent, name) =>
    {
        if (_keepExisting && Posix.TryStat(parent, name, out _))
        {
            link.Mark(made: false);
            return;
        }
        if (_firstNames.TryGetValue(link.Node, out var first))
        {
            // A kept file in the place of the first name is another file: then this name gets a copy of its own.
            var errno = first.Made ? In(first.Raw, (firstParent, firstName) => Posix.TryHardLink(firstParent, firstName, parent, name)) : Errno.CrossDevice;
            if (errno is Errno.TooManyLinks or Errno.CrossDevice or Errno.NotPermitted)
                WriteFile(link);
            else if (errno != 0)
                throw new NativeException("make the hard link", link.Path.ToString(), errno);
            link.Mark(made: true);
            Files++;
            return;
        }
        Posix.MakeLink(parent, name, PosixName.Encode(link.Entry.LinkTarget!));
        link.Mark(made: true);
        Files++;
        if (link.Entry.Owner is { } owner && _asRoot)
            Posix.TrySetOwner(parent, name, owner.Uid, owner.Gid);
        SetAttributes(link, parent, name);
        if (link.Entry.Modified is { } time)
            Posix.SetTime(parent, name, time.ToPosix());
    });

    private void Finish(Item folder) => In(folder.Raw, (parent, name) =>
    {
        using var handle = Posix.OpenFolder(parent, name);
        Dress(folder, parent, name, handle);
        if (folder.Entry.Modified is { } time)
            Posix.SetTime(handle, time.ToPosix());
    });

    private void Dress(Item item, SafeFileHandle parent, byte[] name, SafeFileHandle open)
    {
        var entry = item.Entry;
        SetAttributes(item, parent, name);
        if (entry.Owner is { } owner)
        {
            if (!_asRoot || !Posix.TrySetOwner(open, owner.Uid, owner.Gid))
                Lose("owners (only root can give files away)");
            Posix.SetMode(open, owner.Mode);
        }
        else
            Posix.SetMode(open, entry.Kind == EntryKind.Folder ? 0x1EDu : 0x1A4u);
        if ((entry.Attributes ?? 0) is var attributes && (attributes & ~(WindowsAttributes.Archive | WindowsAttributes.Directory | WindowsAttributes.Normal)) != 0)
            Lose("Windows attributes");
        if (!entry.Security.IsNone)
            Lose("security descriptors");
        if (entry.Streams.Count > 0)
            Lose("named streams");
        if (entry.Reparse is not null)
            Lose("reparse points");
        if (entry.ShortName is not null)
            Lose("short names");
        if (entry.Created is not null)
            Lose("creation times");
        if (entry.ObjectId is not null || entry.ExtendedAttributes.Count > 0)
            Lose("object ids and extended attributes");
    }

    private void SetAttributes(Item item, SafeFileHandle parent, byte[] name)
    {
        foreach (var attribute in item.Entry.PosixAttributes)
        {
            if (Posix.TrySetAttribute(parent, name, attribute.Name, attribute.Value) != 0)
                Lose($"extended attributes '{attribute.Name.Split('.')[0]}.*'");
        }
    }

    private void Lose(string what)
    {
        lock (_gate)
            _lost[what] = _lost.GetValueOrDefault(what) + 1;
    }

    private void In(byte[] raw, Action<SafeFileHandle, byte[]> work) => In(raw, (parent, name) =>
    {
        work(parent, name);
        return 0;
    });

    private T In<T>(byte[] raw, Func<SafeFileHandle, byte[], T> work) => PosixPath.In(_root, raw, work);

    private void Undo()
    {
        void Away(Item item, bool folder)
        {
            try
            {
                In(item.Raw, (parent, name) => Posix.Remove(parent, name, folder));
            }
            catch (NativeException)
            {
                // Nothing more can be done; what is left is told by the error that led here.
            }
        }
        foreach (var item in _links.Concat(_files).Where(i => i.Made))
            Away(item, false);
        for (var i = _folders.Count - 1; i > 0; i--)
        {
            if (_folders[i].Made)
                Away(_folders[i], true);
        }
    }

    /// <summary>Reads back what was written and compares.</summary>
    /// <returns>What differs, a line each.</returns>
    public IReadOnlyList<string> Verify(Action<long, long, string> report, CancellationToken cancellation)
    {
        var differences = new System.Collections.Concurrent.ConcurrentBag<string>();
        var written = _files.Concat(_links).Where(f => f.Made).ToList();
        var total = written.Where(f => f.Entry.Kind == EntryKind.File).Sum(f => f.Entry.Length);
        var done = 0L;
        Crew.Each(written.Count, i =>
        {
            var item = written[i];
            In(item.Raw, (parent, name) =>
            {
                if (Difference(item, parent, name) is { } difference)
                    differences.Add($"{item.Path}: {difference}");
            });
            report(Interlocked.Add(ref done, item.Entry.Length), total, item.Entry.Name);
        }, cancellation);
        return [.. differences.Order(StringComparer.Ordinal)];
    }

    private static string? Difference(Item item, SafeFileHandle parent, byte[] name)
    {
        var entry = item.Entry;
        if (!Posix.TryStat(parent, name, out var stat))
            return "is not there";
        if (entry.Kind == EntryKind.Link)
            return stat.Kind == PosixKind.Link && Posix.ReadLink(parent, name) == entry.LinkTarget ? null : "is not the same link";
        if (stat.Kind != PosixKind.File || stat.Size != entry.Length)
            return $"has {stat.Size} bytes, not {entry.Length}";
        if (entry.Modified is { } time && stat.Modified != time.ToPosix())
            return "has another time";
        using var file = Posix.OpenRead(parent, name);
        var hash = new Blake3();
        var buffer = System.Buffers.ArrayPool<byte>.Shared.Rent(1 << 20);
        for (var at = 0L; at < stat.Size;)
        {
            var count = Posix.Read(file, buffer, at);
            if (count == 0)
                break;
            hash.Append(buffer.AsSpan(0, count));
            at += count;
        }
        System.Buffers.ArrayPool<byte>.Shared.Return(buffer);
        var expected = entry.New is { Bytes: { } bytes } ? Blake3.Hash(bytes) : entry.Content?.Hash;
        return expected is null || hash.Finish() == expected ? null : "has other content";
    }

    public void Dispose() => _root.Dispose();
}
