using System.Runtime.InteropServices;
using Microsoft.Win32.SafeHandles;
using Vembar.Common;
using Vembar.Common.Files;
using Vembar.Common.Tasks;
using Vembar.Images.Contents;
using Vembar.Images.Editing;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Native;
using Vembar.Store.Hashing;
using Vembar.Store.Reading;
using Vembar.Volumes.Sources;

namespace Vembar.Volumes.Targets;

/// <summary>
/// Writes a tree into a folder of Linux. Folders come first, then files in the order in which their content lies in the
/// archive (each block is expanded once), then links, and times and permissions of folders at the end. When it does not come to its end,
/// what is left is whole files and a journal, by which the next run of the same deployment goes on.
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

    private readonly string? _key;
    private readonly DeployJournal? _journal;
    private readonly bool _isSameStart;
    private HashSet<string> _keptBefore = [];
    private bool _begun;
    private long _resumed;

    /// <param name="path">The folder.</param>
    /// <param name="tree">What to write.</param>
    /// <param name="image">The image that it is of.</param>
    /// <param name="archive">Where its content is.</param>
    /// <param name="keepExisting">Whether files that are there are left.</param>
    /// <param name="key">What tells this deployment from others, for one that can be gone on with; null for one of which nothing is left
    /// when it is broken off.</param>
    /// <exception cref="VembarException">The folder holds an unfinished deployment of another image.</exception>
    public FolderTarget(string path, TreeEditor tree, ImageTree image, ArchiveReader archive, bool keepExisting, string? key)
    {
        _key = key;
        _tree = tree;
        _image = image;
        _archive = archive;
        _keepExisting = keepExisting;
        _root = Posix.OpenFolder(null, PosixName.Encode(path), followLink: true);
        try
        {
            if (!TryLock())
                throw VembarException.Environment("target-in-use", $"another deployment writes into '{path}'", "Wait until it has ended.");
            var journal = System.IO.Path.Combine(path, DeployJournal.FileName);
            if (key is null || !File.Exists(journal))
                return;
            _journal = DeployJournal.Parse(InputFile.ReadAllBytes(journal), key, $"'{path}'");
            _isSameStart = _journal.Start.Length > 0 && _journal.Start == DeployJournal.PresentStart();
            _keptBefore = [.. _journal.Kept];
        }
        catch
        {
            _root.Dispose();
            throw;
        }
    }

    /// <summary>Whether an earlier run of this deployment was broken off here.</summary>
    public bool IsResuming => _journal is not null;

    /// <summary>Files that an earlier run had written whole.</summary>
    public long Resumed => _resumed;

    /// <summary>What is left of a run that did not come to its end; empty for nothing.</summary>
    public string Left(string target)
    {
        var all = _files.Count + _links.Count;
        var whole = _files.Concat(_links).Count(f => f.Made);
        return !_begun ? "" : $"{whole} of {all} files are in '{target}', each of them whole";
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
            throw VembarException.Aggregate(problems);
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
                problems.Add(VembarException.Input("name-not-possible", $"'{child.Path}' has a name that Linux cannot write",
                    "Deploy to a Windows volume, or rename it in the image."));
                continue;
            }
            if (entry.Kind == EntryKind.Folder)
            {
                Plan(child, problems, cancellation);
                continue;
            }
            var item = new Item(child);
            if (entry.LinkGroup != 0 && entry.Content is not null
                && _groups.TryGetValue((entry.LinkGroup, entry.Content.Hash), out var first))
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
        cancellation.ThrowIfCancellationRequested();
        var levels = Levels();
        if (_key is not null && _journal is null && _keepExisting)
            _keptBefore = [.. _folders.Skip(1).Concat(_files).Concat(_links).Where(IsThere).Select(i => i.Path.ToString())];
        // From here on the folder holds an unfinished deployment.
        WriteJournal();
        try
        {
            foreach (var level in levels.Skip(1))
            {
                OnAllCores(level, folder => WithParent(folder.Raw, (parent, name) =>
                {
                    // What an earlier run of this one made is made.
                    var isNew = Posix.MakeFolder(parent, name, 0x1C0);
                    folder.Mark(isNew || (IsResuming && !_keptBefore.Contains(folder.Path.ToString())));
                    if (!isNew)
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
                    if (folder.Made && folder.Node.Parent is not null)
                        Finish(folder);
                }, cancellation);
            }
            if (_begun)
                Posix.Remove(_root, PosixName.Encode(DeployJournal.FileName), false);
            _begun = false;
            if (!_keepExisting)
                Finish(_folders[0]);
        }
        catch
        {
            Undo();
            throw;
        }
    }

    private bool IsThere(Item item)
    {
        try
        {
            return WithParent(item.Raw, (parent, name) => Posix.TryStat(parent, name, out _));
        }
        catch (NativeException)
        {
            // A folder above it is not there.
            return false;
        }
    }

    private bool TryLock()
    {
        try
        {
            return Posix.TryLock(_root);
        }
        catch (NativeException)
        {
            // Some file systems have no locks; then nobody holds one.
            return true;
        }
    }

    private void WriteJournal()
    {
        if (_key is null)
            return;
        if (!IsResuming)
        {
            var journal = new DeployJournal
            {
                Key = _key,
                Start = DeployJournal.PresentStart(),
                Kept = [.. _keptBefore.Order(StringComparer.Ordinal)],
            };
            var beside = PosixName.Encode(DeployJournal.UnfinishedName);
            // One that was being written when a run was killed.
            if (Posix.TryStat(_root, beside, out _))
                Posix.Remove(_root, beside, false);
            using (var file = Posix.CreateNew(_root, beside, 0x180))
            {
                Posix.Write(file, journal.Encode(), 0);
                // A power cut that leaves files leaves what tells whose they are.
                Posix.Sync(file);
            }
            Posix.Rename(_root, beside, PosixName.Encode(DeployJournal.FileName));
        }
        // A resumed one keeps its journal as it is: what was there before the first run, and the start under which the oldest files were
        // written.
        _begun = true;
    }

    // Where not a file was written there is nothing to go on with; where nobody will go on, nothing is left.
    private void Undo()
    {
        if (_key is null)
        {
            foreach (var item in _links.Concat(_files).Where(i => i.Made))
                TryRemove(item, folder: false);
        }
        else if (IsResuming || _files.Concat(_links).Any(f => f.Made))
            return;
        for (var i = _folders.Count - 1; i > 0; i--)
        {
            if (_folders[i].Made)
                TryRemove(_folders[i], folder: true);
        }
        if (!_begun)
            return;
        try
        {
            Posix.Remove(_root, PosixName.Encode(DeployJournal.FileName), false);
            _begun = false;
        }
        catch (NativeException)
        {
            // Then it is told.
        }
    }

    private void TryRemove(Item item, bool folder)
    {
        try
        {
            WithParent(item.Raw, (parent, name) => Posix.Remove(parent, name, folder));
        }
        catch (NativeException)
        {
            // Nothing more can be done.
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
        WorkStealingRunner.Each(items.Count, i => work(items[i]), cancellation);

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
        WorkStealingRunner.Each(runs.Count, run =>
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
        WithParent(item.Raw, (parent, name) =>
        {
            SafeFileHandle file;
            try
            {
                file = Posix.CreateNew(parent, name, 0x180);
            }
            catch (NativeException failure) when (failure.Errno == Errno.Exists && (_keepExisting || IsResuming))
            {
                var isOwn = IsResuming && !_keptBefore.Contains(item.Path.ToString());
                if (!isOwn || IsWhole(item, parent, name))
                {
                    item.Mark(made: isOwn);
                    if (isOwn)
                        Interlocked.Increment(ref _resumed);
                    return;
                }
                Posix.Remove(parent, name, false);
                file = Posix.CreateNew(parent, name, 0x180);
            }
            try
            {
                Fill(item, parent, name, file);
            }
            catch
            {
                // What is there is whole, or it is not there.
                TryRemove(item, folder: false);
                throw;
            }
            item.Mark(made: true);
        });
    }

    // Its time is the last thing that a file is given. After the machine was started anew, what was told to be written may be lost.
    private bool IsWhole(Item item, SafeFileHandle parent, byte[] name)
    {
        var entry = item.Entry;
        if (!Posix.TryStat(parent, name, out var stat) || stat.Kind != PosixKind.File || stat.Size != entry.Length
            || entry.Modified is not { } time || stat.Modified != time.ToPosix())
            return false;
        return (_isSameStart && entry.New is null) || Difference(item, parent, name) is null;
    }

    private void Fill(Item item, SafeFileHandle parent, byte[] name, SafeFileHandle file)
    {
        using (file)
        {
            var entry = item.Entry;
            if (entry.New is { } fresh)
                Posix.Write(file, fresh.ToBytes(), 0);
            else
            {
                var end = 0L;
                _image.Pieces(entry.Content!, () => item.Path, (bytes, at) =>
                {
                    Posix.Write(file, bytes, at);
                    end = at + bytes.Length;
                });
                if (end < entry.Length)
                    Posix.SetLength(file, entry.Length);
            }
            ApplyMetadata(item, parent, name, file);
            if (entry.Modified is { } time)
                Posix.SetTime(file, time.ToPosix());
        }
    }

    private void WriteLink(Item link) => WithParent(link.Raw, (parent, name) =>
    {
        if ((_keepExisting || IsResuming) && Posix.TryStat(parent, name, out _))
        {
            if (!IsResuming || _keptBefore.Contains(link.Path.ToString()))
            {
                link.Mark(made: false);
                return;
            }
            Posix.Remove(parent, name, false);
        }
        if (_firstNames.TryGetValue(link.Node, out var first))
        {
            // A kept file in the place of the first name is another file: then this name gets a copy of its own.
            var errno = first.Made
                ? WithParent(first.Raw, (firstParent, firstName) => Posix.TryHardLink(firstParent, firstName, parent, name))
                : Errno.CrossDevice;
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

    private void Finish(Item folder) => WithParent(folder.Raw, (parent, name) =>
    {
        using var handle = Posix.OpenFolder(parent, name);
        ApplyMetadata(folder, parent, name, handle);
        if (folder.Entry.Modified is { } time)
            Posix.SetTime(handle, time.ToPosix());
    });

    private void ApplyMetadata(Item item, SafeFileHandle parent, byte[] name, SafeFileHandle open)
    {
        var entry = item.Entry;
        SetAttributes(item, parent, name);
        if (entry.Owner is { } owner)
        {
            if (!_asRoot || !Posix.TrySetOwner(open, owner.Uid, owner.Gid))
                RecordUnsupported("owners (only root can give files away)");
            Posix.SetMode(open, owner.Mode);
        }
        else
            Posix.SetMode(open, entry.Kind == EntryKind.Folder ? 0x1EDu : 0x1A4u);
        if ((entry.Attributes ?? 0) is var attributes
            && (attributes & ~(WindowsAttributes.Archive | WindowsAttributes.Directory | WindowsAttributes.Normal)) != 0)
            RecordUnsupported("Windows attributes");
        if (!entry.Security.IsNone)
            RecordUnsupported("security descriptors");
        if (entry.Streams.Count > 0)
            RecordUnsupported("named streams");
        if (entry.Reparse is not null)
            RecordUnsupported("reparse points");
        if (entry.ShortName is not null)
            RecordUnsupported("short names");
        if (entry.Created is not null)
            RecordUnsupported("creation times");
        if (entry.ObjectId is not null || entry.ExtendedAttributes.Count > 0)
            RecordUnsupported("object ids and extended attributes");
    }

    private void SetAttributes(Item item, SafeFileHandle parent, byte[] name)
    {
        foreach (var attribute in item.Entry.PosixAttributes)
        {
            if (Posix.TrySetAttribute(parent, name, attribute.Name, attribute.Value) != 0)
                RecordUnsupported($"extended attributes '{attribute.Name.Split('.')[0]}.*'");
        }
    }

    private void RecordUnsupported(string what)
    {
        lock (_gate)
            _lost[what] = _lost.GetValueOrDefault(what) + 1;
    }

    private void WithParent(byte[] raw, Action<SafeFileHandle, byte[]> work) => WithParent(raw, (parent, name) =>
    {
        work(parent, name);
        return 0;
    });

    private T WithParent<T>(byte[] raw, Func<SafeFileHandle, byte[], T> work) => PosixPath.BelowParent(_root, raw, work);

    /// <summary>Reads back what was written and compares.</summary>
    /// <returns>What differs, a line each.</returns>
    public IReadOnlyList<string> Verify(Action<long, long, string> report, CancellationToken cancellation)
    {
        var differences = new System.Collections.Concurrent.ConcurrentBag<string>();
        var written = _files.Concat(_links).Where(f => f.Made).ToList();
        var total = written.Where(f => f.Entry.Kind == EntryKind.File).Sum(f => f.Entry.Length);
        var done = 0L;
        WorkStealingRunner.Each(written.Count, i =>
        {
            var item = written[i];
            WithParent(item.Raw, (parent, name) =>
            {
                if (Difference(item, parent, name) is { } difference)
                    differences.Add($"{item.Path}: {difference}");
            });
            report(Interlocked.Add(ref done, item.Entry.Length), total, item.Entry.Name);
        }, cancellation);
        return [.. differences.Order(StringComparer.Ordinal)];
    }

    private string? Difference(Item item, SafeFileHandle parent, byte[] name)
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
        using var handle = Posix.OpenRead(parent, name);
        using var file = new PosixSourceFile(handle);
        return ContentComparison.Matches(file, entry.New is null ? _image.Parts(entry.Content!, item.Path) : NewContentParts.Of(entry.New))
            ? null : "has other content";
    }

    /// <summary>How many bytes of content there are to be written; holes are not.</summary>
    public long BytesToWrite => _files.Sum(f => _image.DataLength(f.Entry.Content, f.Entry.Length, () => f.Path));

    public void Dispose()
    {
        Posix.Unlock(_root);
        _root.Dispose();
    }
}
