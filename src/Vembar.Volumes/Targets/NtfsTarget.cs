using Vembar.Common;
using Vembar.Common.Tasks;
using Vembar.Images.Editing;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Native;
using Vembar.Store.Hashing;
using Vembar.Store.Reading;
using Vembar.Volumes.Compaction;
using Vembar.Volumes.Sources;

namespace Vembar.Volumes.Targets;

/// <summary>
/// Writes a tree onto an NTFS volume with everything that NTFS keeps. Folders come first, then files in the order in which
/// their content lies in the archive, then further names of files, and the folders' own times at the end.
/// </summary>
internal sealed class NtfsTarget
{
    private static readonly System.Buffers.SearchValues<char> s_unopenable = System.Buffers.SearchValues.Create("\\:*?\"<>|");

    private readonly NtfsVolume _volume;
    private readonly TreeEditor _tree;
    private readonly ImageTree _image;
    private readonly ArchiveReader _archive;
    private readonly bool _keepExisting;
    private readonly CompactionRule _compaction;
    private readonly List<Item> _folders = [];
    private readonly List<Item> _files = [];
    private readonly List<Item> _links = [];
    private readonly Dictionary<(ulong Group, ChunkId Content), Item> _groups = [];
    private readonly Dictionary<ChunkId, uint> _security = [];
    private readonly Dictionary<string, long> _lost = [];

    private sealed class Item
    {
        public required TreeEntry Entry { get; init; }
        public required WindowsPath Path { get; init; }
        public required Item? Folder { get; init; }
        public Item? HardLinkOf { get; init; }
        public ulong Reference { get; set; }
        public bool Made { get; set; }
        public bool Kept { get; set; }
    }

    private readonly bool _skipRoomCheck;
    private readonly string? _key;
    private readonly DeployJournal? _journal;
    private readonly HashSet<string> _keptBefore = [];
    private bool _begun;

    /// <param name="volume">The volume.</param>
    /// <param name="tree">What to write.</param>
    /// <param name="image">The image that it is of.</param>
    /// <param name="archive">Where its content is.</param>
    /// <param name="keepExisting">Whether files that are there are left.</param>
    /// <param name="skipRoomCheck">Whether to begin although there seems to be too little room.</param>
    /// <param name="key">What tells this deployment from others, for one that can be gone on with when it is broken off; null for
    /// none.</param>
    /// <param name="compact">Which files are written compacted.</param>
    /// <exception cref="VembarException">The volume holds an unfinished deployment of another image.</exception>
    public NtfsTarget(NtfsVolume volume, TreeEditor tree, ImageTree image, ArchiveReader archive, bool keepExisting, bool skipRoomCheck,
        string? key, CompactionChoice compact = CompactionChoice.None)
    {
        _compaction = new CompactionRule(compact);
        _skipRoomCheck = skipRoomCheck;
        _key = key;
        _volume = volume;
        _tree = tree;
        _image = image;
        _archive = archive;
        _keepExisting = keepExisting;
        if (key is null || ReadJournal() is not { } bytes)
            return;
        _journal = DeployJournal.Parse(bytes, key, "the volume");
        _keptBefore = [.. _journal.Kept];
    }

    /// <summary>Whether an earlier run of this deployment was broken off here.</summary>
    public bool IsResuming => _journal is not null;

    /// <summary>Files that an earlier run had written whole.</summary>
    public long Resumed { get; private set; }

    /// <summary>What is left of a run that did not come to its end; empty for nothing.</summary>
    public string Left() =>
        !_begun ? ""
        : $"{_files.Concat(_links).Count(f => f.Made)} of {_files.Count + _links.Count} files of the image, each of them whole";

    private byte[]? ReadJournal()
    {
        using var root = _volume.Open(NtfsVolume.Root, "/");
        if (root.Find(DeployJournal.FileName) is not { } found)
            return null;
        using var file = _volume.Open(found, DeployJournal.FileName);
        using var data = file.OpenData();
        var bytes = new byte[Math.Min(data.Length, DeployJournal.Longest)];
        return bytes[..data.Read(bytes, 0)];
    }

    private void WriteJournal()
    {
        if (_key is null || IsResuming)
        {
            _begun = _key is not null;
            return;
        }
        if (_keepExisting)
            FindKept();
        var bytes = new DeployJournal { Key = _key, Start = "", Kept = [.. _keptBefore.Order(StringComparer.Ordinal)] }.Encode();
        using var root = _volume.Open(NtfsVolume.Root, "/");
        using var file = _volume.Create(root, DeployJournal.FileName, isFolder: false, 0, DeployJournal.FileName);
        _begun = true;
        using (var data = file.OpenData())
            data.Write(bytes, 0);
        file.Close(root);
    }

    // What is there before anything is written.
    private void FindKept()
    {
        var there = new Dictionary<Item, ulong>();
        foreach (var item in _folders.Concat(_files).Concat(_links))
        {
            if (item.Folder is null)
                there[item] = NtfsVolume.Root;
            else if (there.TryGetValue(item.Folder, out var reference))
            {
                using var parent = _volume.Open(reference, item.Path.ToString());
                if (!parent.IsFolder || parent.Find(item.Entry.Name) is not { } found)
                    continue;
                there[item] = found;
                _keptBefore.Add(item.Path.ToString());
            }
        }
    }

    private void Remove(ulong folder, string name, string displayName)
    {
        using var parent = _volume.Open(folder, displayName);
        if (parent.Find(name) is not { } found)
            return;
        using var file = _volume.Open(found, displayName);
        file.DeleteAndClose(parent, name);
    }

    /// <summary>Files that were written compacted.</summary>
    public CompactedCount Compacted { get; private set; } = new(0, 0, 0);

    public long Files { get; private set; }

    public long Bytes { get; private set; }

    /// <summary>Existing files that were left as they are.</summary>
    public IEnumerable<string> Kept => _files.Concat(_links).Where(f => f.Kept).Select(f => f.Path.ToString());

    /// <summary>What could not be kept, each with how many entries it concerns.</summary>
    public IReadOnlyDictionary<string, long> Lost => _lost;

    /// <summary>Plans what to write.</summary>
    /// <exception cref="VembarException">Names cannot be written here, or there is no room; all told together.</exception>
    public void Plan(CancellationToken cancellation)
    {
        var problems = new List<VembarException>();
        _tree.LoadAll(cancellation);
        Plan(_tree.Root, null, WindowsPath.Root, problems, cancellation);
        const int Record = 1024, Resident = 600;
        var cluster = _volume.ClusterSize;
        long Allocated(long length) => length <= Resident ? 0 : (length + cluster - 1) / cluster * cluster;
        var needed = _files.Sum(f => Allocated(_image.DataLength(f.Entry.Content, f.Entry.Length,
            () => f.Path)) + f.Entry.Streams.Sum(s => Allocated(s.Content.Length)) + Record) + _folders.Count * (Record + (long)cluster);
        var free = _volume.FreeBytes();
        if (needed > free && !_keepExisting && !IsResuming && !_skipRoomCheck)
            problems.Add(VembarException.Environment("no-room", $"the image needs about {needed >> 20} MiB on the volume, which has "
                + $"{free >> 20} MiB free", Advice.Of("no-room-on-volume")));
        if (problems.Count > 0)
            throw VembarException.Aggregate(problems);
    }

    private void Plan(TreeEditor.Node node, Item? parent, WindowsPath path, List<VembarException> problems, CancellationToken cancellation)
    {
        cancellation.ThrowIfCancellationRequested();
        var folder = new Item { Entry = node.Entry, Path = path, Folder = parent };
        _folders.Add(folder);
        foreach (var child in _tree.Children(node))
        {
            var entry = child.Entry;
            var own = path.Child(entry.Name);
            if (entry.Name.Length > 255)
            {
                problems.Add(VembarException.Input("name-not-possible",
                    $"'{own}' has a name longer than the 255 characters that NTFS takes", "Rename it in the image."));
                continue;
            }
            // Windows opens none of these, but NTFS keeps them; a subsystem of it may have made them.
            if (entry.Name.AsSpan().ContainsAny(s_unopenable) || entry.Name.Any(char.IsControl) || entry.Name[^1] is ' ' or '.')
                RecordUnsupported("names that Windows programs can open");
            if (entry.Kind == EntryKind.Folder)
            {
                Plan(child, folder, own, problems, cancellation);
                continue;
            }
            if (entry.Kind == EntryKind.Link)
            {
                RecordUnsupported("symbolic links of Linux");
                continue;
            }
            if (entry.Owner is not null)
                RecordUnsupported("owners and permissions of Linux");
            if (entry.LinkGroup != 0 && entry.Content is not null)
            {
                if (_groups.TryGetValue((entry.LinkGroup, entry.Content.Hash), out var first))
                {
                    _links.Add(new Item { Entry = entry, Path = own, Folder = folder, HardLinkOf = first });
                    continue;
                }
            }
            var item = new Item { Entry = entry, Path = own, Folder = folder };
            _files.Add(item);
            if (entry.LinkGroup != 0 && entry.Content is not null)
                _groups[(entry.LinkGroup, entry.Content.Hash)] = item;
        }
    }

    private void RecordUnsupported(string what) => _lost[what] = _lost.GetValueOrDefault(what) + 1;

    /// <summary>Writes everything; the caller closes the volume.</summary>
    /// <exception cref="VembarException">It cannot be written.</exception>
    public void Write(Action<long, long, string> report, CancellationToken cancellation)
    {
        var current = WindowsPath.Root;
        try
        {
            // Whoever finds the volume after a power cut is to have it checked.
            _volume.MarkDirty(true);
            WriteJournal();
            foreach (var folder in _folders)
            {
                cancellation.ThrowIfCancellationRequested();
                current = folder.Path;
                MakeFolder(folder);
            }
            var total = _files.Sum(f => f.Entry.Length);
            var done = 0L;
            var ordered = _files.Select(f => (Item: f, Place: _archive.OrderOf(f.Entry.Content))).OrderBy(f => f.Place).ToList();
            using var ahead = new ReadAhead(_archive, ordered.Select(f => f.Item.Entry.Content));
            foreach (var (file, _) in ordered)
            {
                cancellation.ThrowIfCancellationRequested();
                current = file.Path;
                ahead.Reached(file.Entry.Content);
                try
                {
                    WriteFile(file);
                }
                catch (Exception failure) when (failure is VembarException or NativeException or OperationCanceledException)
                {
                    if (file.Made)
                        Rollback(file);
                    throw;
                }
                done += file.Entry.Length;
                report(done, total, file.Path.ToString());
            }
            foreach (var link in _links)
            {
                cancellation.ThrowIfCancellationRequested();
                current = link.Path;
                WriteLink(link);
            }
            // The deepest first: writing into a folder changes its times.
            for (var i = _folders.Count - 1; i >= 0; i--)
            {
                cancellation.ThrowIfCancellationRequested();
                current = _folders[i].Path;
                if (i == 0 && _begun)
                    Remove(NtfsVolume.Root, DeployJournal.FileName, DeployJournal.FileName);
                Finish(_folders[i]);
            }
            _begun = false;
            _volume.MarkDirty(false);
        }
        catch (OperationCanceledException)
        {
            _volume.MarkDirty(false);
            throw;
        }
        catch (VembarException)
        {
            _volume.MarkDirty(false);
            throw;
        }
        catch (NativeException failure)
        {
            // Full, it is still in order; a device that fails leaves nothing that one could rely on.
            if (failure.Errno == Errno.NoSpace)
                _volume.MarkDirty(false);
            throw failure.Errno == Errno.NoSpace
                ? VembarException.Environment("no-room", $"the volume is full at '{current}'", "Make the disk or the partition larger.")
                : VembarException.From(failure, "write", current.ToString())!;
        }
    }

    private const ulong NumberMask = 0xFFFFFFFFFFFF;

    private void MakeFolder(Item folder)
    {
        if (folder.Folder is null)
        {
            folder.Reference = NtfsVolume.Root;
            folder.Made = !_keepExisting;
            return;
        }
        var displayName = folder.Path.ToString();
        using var parent = _volume.Open(folder.Folder.Reference, displayName);
        if ((IsResuming || (_keepExisting && !folder.Folder.Made)) && parent.Find(folder.Entry.Name) is { } found)
        {
            using var there = _volume.Open(found, displayName);
            if (!there.IsFolder)
                throw VembarException.Input("target-exists", $"the volume has a file '{folder.Path}' where the image has a folder",
                    "Remove it, or deploy to an empty volume.");
            folder.Reference = there.Number;
            // What an earlier run of this one made is made.
            folder.Made = IsResuming && !_keptBefore.Contains(folder.Path.ToString());
            folder.Kept = !folder.Made;
            return;
        }
        var made = Create(parent, folder, isFolder: true);
        try
        {
            folder.Reference = made.Number;
            folder.Made = true;
            // It must be made so while it is empty.
            if (folder.Entry.Reparse is { } reparse)
                made.SetReparse(reparse);
            made.Close(parent);
        }
        finally
        {
            made.Dispose();
        }
    }

    private NtfsFile Create(NtfsFile parent, Item item, bool isFolder)
    {
        var id = item.Entry.Security;
        var known = 0u;
        var isKnown = !id.IsNone && _security.TryGetValue(id, out known);
        var file = _volume.Create(parent, item.Entry.Name, isFolder, known, item.Path.ToString(),
            item.Entry.Attributes?.HasFlag(WindowsAttributes.Compressed) ?? false);
        try
        {
            if (!id.IsNone && !isKnown)
            {
                file.SetSecurity(_archive.Read(id).Span);
                if (file.SecurityId != 0)
                    _security[id] = file.SecurityId;
            }
            return file;
        }
        catch
        {
            file.Dispose();
            throw;
        }
    }

    private void WriteFile(Item item)
    {
        var displayName = item.Path.ToString();
        var entry = item.Entry;
        var parent = _volume.Open(item.Folder!.Reference, displayName);
        NtfsFile? file = null;
        try
        {
            if ((IsResuming || (_keepExisting && !item.Folder.Made)) && parent.Find(entry.Name) is { } found)
            {
                var isOwn = IsResuming && !_keptBefore.Contains(displayName);
                if (!isOwn || IsWhole(entry, found, displayName))
                {
                    (item.Kept, item.Made, item.Reference) = (!isOwn, isOwn, found);
                    Resumed += isOwn ? 1 : 0;
                    Files += isOwn ? 1 : 0;
                    Bytes += isOwn ? entry.Length : 0;
                    return;
                }
                parent.Dispose();
                Remove(item.Folder.Reference, entry.Name, displayName);
                parent = _volume.Open(item.Folder.Reference, displayName);
            }
            file = Create(parent, item, isFolder: false);
            item.Reference = file.Number;
            item.Made = true;
            if (entry.Attributes is { } attributes)
                file.SetAttributes((uint)(attributes & ~WindowsAttributes.Directory));
            var form = _compaction.FormFor(entry, item.Path);
            if (form != CompactedForm.None && !TryWriteCompacted(file, item, form))
                form = CompactedForm.None;
            if (entry.Length > 0 && form == CompactedForm.None)
            {
                using var data = file.OpenData();
                WriteContent(data, entry.New, entry.Content, item.Path);
            }
            ApplyMetadata(item, file);
            if (form != CompactedForm.None)
                file.SetReparse(CompactedForms.Reparse(form));
            else if (entry.Reparse is { } reparse)
                file.SetReparse(reparse);
            SetShortName(item, ref parent, ref file);
            SetTimes(file, entry);
            file.Close(parent);
            Files++;
            Bytes += entry.Length;
        }
        finally
        {
            file?.Dispose();
            parent.Dispose();
        }
    }

    // Its times are the last thing that a file is given.
    private bool IsWhole(TreeEntry entry, ulong reference, string displayName)
    {
        using var file = _volume.Open(reference, displayName);
        var there = file.Describe();
        return !there.IsFolder && there.Length == entry.Length && entry.New is null && entry.Modified is { } modified
            && there.Modified == modified.Ticks
            && (entry.Created is not { } created || there.Created == created.Ticks)
            && (entry.Changed is not { } changed || there.Changed == changed.Ticks);
    }

    // What is on the volume of the image is whole: a file that could not be finished is taken away again.
    private void Rollback(Item item)
    {
        try
        {
            item.Made = false;
            Remove(item.Folder!.Reference, item.Entry.Name, item.Path.ToString());
        }
        catch (NativeException)
        {
            // The next run finds that it is not whole.
        }
    }

    private void ApplyMetadata(Item item, NtfsFile file)
    {
        var entry = item.Entry;
        foreach (var stream in entry.Streams)
        {
            using var data = file.AddStream(stream.Name);
            WriteContent(data, null, stream.Content, item.Path);
        }
        if (entry.ExtendedAttributes.Count > 0)
            file.SetExtendedAttributes(ExtendedAttributeList.Encode(entry.ExtendedAttributes));
        if (entry.ObjectId is { } objectId)
            Try("object ids", () => file.SetObjectId(objectId));
    }

    private void Try(string what, Action set)
    {
        try
        {
            set();
        }
        catch (NativeException failure) when (failure.Errno != Errno.NoSpace && failure.Errno != Errno.InputOutput)
        {
            RecordUnsupported(what);
        }
    }

    // The library closes both for this, so they are opened again.
    private void SetShortName(Item item, ref NtfsFile parent, ref NtfsFile file)
    {
        if (item.Entry.ShortName is not { Length: > 0 } name)
            return;
        var displayName = item.Path.ToString();
        if (!file.TrySetShortNameAndClose(parent, name))
            RecordUnsupported("short names");
        parent = _volume.Open(item.Folder!.Reference, displayName);
        file = _volume.Open(item.Reference, displayName);
    }

    private static void SetTimes(NtfsFile file, TreeEntry entry)
    {
        var modified = entry.Modified?.Ticks ?? FileTime.From(DateTime.UtcNow).Ticks;
        file.SetTimes(entry.Created?.Ticks ?? modified, modified, entry.Changed?.Ticks ?? modified, entry.Accessed?.Ticks ?? modified);
    }

    // False, and nothing is written, when it would not take less room.
    private bool TryWriteCompacted(NtfsFile file, Item item, CompactedForm form)
    {
        var (content, path) = (item.Entry.Content!, item.Path);
        if (!IsWorthwhile(content, path, form))
            return false;
        using (var data = file.AddStream(CompactedForms.Stream))
        {
            var compactor = new Compactor(form, content.Length, data.Write);
            var end = 0L;
            _image.Pieces(content, () => path, (bytes, at) =>
            {
                compactor.AddZeros(at - end);
                compactor.Add(bytes);
                end = at + bytes.Length;
            });
            compactor.AddZeros(content.Length - end);
            compactor.Finish();
            data.Finish();
            Compacted = Compacted.Plus(new CompactedCount(1, content.Length, compactor.Stored));
        }
        // The content's own stream is one hole.
        using var plain = file.OpenData();
        plain.SetLength(content.Length);
        return true;
    }

    // Told by its first piece; most files have one only.
    private bool IsWorthwhile(FileContent content, WindowsPath path, CompactedForm form)
    {
        var (before, after) = (0L, 0L);
        if (_image.Parts(content, path) is not [{ IsHole: false } first, ..])
            return content.Length > 0;
        _image.Pieces(new FileContent(first.Length, first.Id), () => path, (bytes, _) =>
        {
            var compactor = new Compactor(form, bytes.Length, (_, _) => { });
            compactor.Add(bytes);
            compactor.Finish();
            (before, after) = (bytes.Length, compactor.Stored);
        });
        long Clusters(long length) => (length + _volume.ClusterSize - 1) / _volume.ClusterSize;
        return before == content.Length ? Clusters(after) < Clusters(before) : after * 10 < before * 9;
    }

    private void WriteContent(NtfsData data, NewContent? fresh, FileContent? content, WindowsPath path)
    {
        if (fresh is not null)
            data.Write(fresh.ToBytes(), 0);
        else
        {
            var end = 0L;
            _image.Pieces(content!, () => path, (bytes, at) =>
            {
                // Made a hole first, so that it is not filled with zeros.
                if (at > end)
                    data.SetLength(at);
                data.Write(bytes, at);
                end = at + bytes.Length;
            });
            if (end < content!.Length)
                data.SetLength(content.Length);
        }
        data.Finish();
    }

    private void WriteLink(Item link)
    {
        var displayName = link.Path.ToString();
        using var parent = _volume.Open(link.Folder!.Reference, displayName);
        if ((IsResuming || (_keepExisting && !link.Folder.Made)) && parent.Find(link.Entry.Name) is { } found)
        {
            link.Kept = !IsResuming || _keptBefore.Contains(displayName);
            link.Made = !link.Kept;
            // The same file under its other name; or one that could not be finished.
            if (link.Kept || (found & NumberMask) == (link.HardLinkOf!.Reference & NumberMask))
            {
                Files += link.Made ? 1 : 0;
                return;
            }
            parent.Dispose();
            Remove(link.Folder.Reference, link.Entry.Name, displayName);
            link.Made = false;
            WriteLink(link);
            return;
        }
        // A kept file in the place of the first name is another file: then this name gets a copy of its own.
        if (link.HardLinkOf!.Kept)
        {
            parent.Dispose();
            WriteFile(link);
            return;
        }
        using var file = _volume.Open(link.HardLinkOf.Reference, displayName);
        file.Link(parent, link.Entry.Name);
        // Its names are in several folders now, and the library opens each of them by itself.
        parent.Close();
        SetTimes(file, link.HardLinkOf.Entry);
        file.Close();
        link.Made = true;
        Files++;
    }

    private void Finish(Item item)
    {
        if (!item.Made)
            return;
        var displayName = item.Path.ToString();
        var entry = item.Entry;
        var file = _volume.Open(item.Reference, displayName);
        NtfsFile? parent = null;
        try
        {
            if (item.Folder is not null)
                parent = _volume.Open(item.Folder.Reference, displayName);
            else if (!entry.Security.IsNone)
                file.SetSecurity(_archive.Read(entry.Security).Span);
            if (entry.Attributes is { } attributes)
                file.SetAttributes((uint)attributes);
            ApplyMetadata(item, file);
            if (parent is not null)
                SetShortName(item, ref parent, ref file);
            SetTimes(file, entry);
            file.Close(parent);
        }
        finally
        {
            file.Dispose();
            parent?.Dispose();
        }
    }

    /// <summary>Compares what is on the volume with what was to be written.</summary>
    /// <param name="source">The volume, opened anew for reading.</param>
    /// <param name="report">Told how far it is.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <returns>What differs, a line each.</returns>
    public IReadOnlyList<string> Verify(NtfsSource source, Action<long, long, string> report, CancellationToken cancellation)
    {
        var tree = source.Walk(new Exclusions([], keepAll: true), null, skipUnreadable: false, null, cancellation);
        // To the letter: names may differ in case alone.
        var found = new Dictionary<string, SourceNode>(StringComparer.Ordinal);
        void Collect(SourceNode node)
        {
            found[node.Path.ToString()] = node;
            foreach (var child in node.Children ?? [])
                Collect(child);
        }
        Collect(tree.Root);
        var differences = new System.Collections.Concurrent.ConcurrentBag<string>();
        var written = _folders.Concat(_files).Concat(_links).Where(i => i.Made).ToList();
        long done = 0, total = written.Sum(i => i.Entry.Length);
        WorkStealingRunner.Each(written.Count, i =>
        {
            var item = written[i];
            var difference = found.TryGetValue(item.Path.ToString(), out var node) ? Difference(source, item, node) : "is not there";
            if (difference is not null)
                differences.Add($"{item.Path}: {difference}");
            report(Interlocked.Add(ref done, item.Entry.Length), total, item.Path.ToString());
        }, cancellation);
        return [.. differences.Order(StringComparer.Ordinal)];
    }

    private string? Difference(NtfsSource source, Item item, SourceNode node)
    {
        // A further name of a file has the metadata of the first.
        var expected = (item.HardLinkOf ?? item).Entry;
        var entry = node.Entry;
        const WindowsAttributes Compared =
            WindowsAttributes.ReadOnly | WindowsAttributes.Hidden | WindowsAttributes.System | WindowsAttributes.Archive
        | WindowsAttributes.NotIndexed | WindowsAttributes.Compressed | WindowsAttributes.Reparse;
        if (node.Kind != expected.Kind || node.Length != expected.Length)
            return $"is a {node.Kind} of {node.Length} bytes, not a {expected.Kind} of {expected.Length}";
        if (expected.Modified is { } time && entry.Modified?.Ticks != time.Ticks)
            return "has another time";
        if (expected.Attributes is { } attributes && (entry.Attributes & Compared) != (attributes & Compared))
            return $"has other attributes ({entry.Attributes & Compared}, not {attributes & Compared})";
        if (!expected.Security.IsNone && (entry.PendingSecurity is not { } security || Blake3.Hash(security) != expected.Security))
            return "has another security descriptor";
        if (expected.Reparse is { } reparse && entry.Reparse?.AsSpan().SequenceEqual(reparse) != true)
            return "has other reparse data";
        if (!entry.PendingStreams.Select(s => s.Name).Order(StringComparer.Ordinal)
            .SequenceEqual(expected.Streams.Select(s => s.Name).Order(StringComparer.Ordinal)))
            return "has other streams";
        if (node.Kind != EntryKind.File)
            return null;
        using var file = source.Open(node);
        return ContentComparison.Matches(file, expected.New is null ? _image.Parts(expected.Content!, item.Path)
            : NewContentParts.Of(expected.New)) ? null : "has other content";
    }
}
