using System.Buffers.Binary;
using Microsoft.Win32.SafeHandles;
using Vembar.Common;
using Vembar.Common.Tasks;
using Vembar.Images.Contents;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Native;
using Vembar.Volumes.Compaction;

namespace Vembar.Volumes.Sources;

/// <summary>
/// A folder of Linux as the root of an install. It is only read, access times included. On a mount by ntfs-3g the
/// metadata of Windows is read from the mount's extended attributes.
/// </summary>
public sealed class FolderSource : ISource
{
    private readonly SafeFileHandle _root;
    private readonly bool _windowsMetadata;

    private FolderSource(string path, SafeFileHandle root)
    {
        DisplayName = path;
        _root = root;
        _windowsMetadata = Posix.GetAttribute(root, ".\0"u8, "system.ntfs_attrib_be") is not null;
    }

    /// <summary>Opens a folder.</summary>
    /// <exception cref="VembarException">It is not there, not a folder, or must not be read.</exception>
    public static FolderSource Open(string path)
    {
        try
        {
            return new FolderSource(path, Posix.OpenFolder(null, PosixName.Encode(path), followLink: true));
        }
        catch (NativeException failure) when (failure.Errno is Errno.NotFound or Errno.NotDirectory)
        {
            if (File.Exists(path))
                throw VembarException.Input("not-a-folder", $"'{path}' is a file, not a folder",
                    "Name the folder that is the root of the Windows volume.");
            throw VembarException.Input("no-such-source", $"there is no folder or disk '{path}'",
                Nearest(path) is { } near ? $"Did you mean '{near}'?" : "Check the path.");
        }
        catch (NativeException failure)
        {
            throw VembarException.From(failure, "read", path)!;
        }
    }

    private static string? Nearest(string path)
    {
        try
        {
            var full = Path.TrimEndingDirectorySeparator(Path.GetFullPath(path));
            var parent = Path.GetDirectoryName(full);
            var name = Path.GetFileName(full);
            return parent is null || !Directory.Exists(parent) ? null : Directory.EnumerateFileSystemEntries(parent)
                .Select(d => (Path: d, Distance: EditDistance.Distance(Path.GetFileName(d), name)))
                .Where(d => d.Distance <= Math.Max(2, name.Length / 3)).OrderBy(d => d.Distance)
                .Select(d => Path.Combine(Path.GetDirectoryName(Path.TrimEndingDirectorySeparator(path)) ?? "", Path.GetFileName(d.Path)))
                    .FirstOrDefault();
        }
        catch (IOException)
        {
            return null;
        }
        catch (UnauthorizedAccessException)
        {
            return null;
        }
    }

    /// <inheritdoc/>
    public string DisplayName { get; }

    /// <inheritdoc/>
    public string Kind => "folder";

    /// <summary>Tells this folder from any other that has been at the same path: its file number, and what tells its file system from
    /// others.</summary>
    public string Identity => SourceIdentity.Of(_root);

    /// <inheritdoc/>
    public bool KeepsChangeTimes => false;

    /// <inheritdoc/>
    public DateTime? ChangedBefore(DateTime began, long latest)
    {
        // A change within the same tick as the latest one would not show; ticks are two seconds long at most.
        const long Tick = TimeSpan.TicksPerSecond * 2;
        var start = FileTime.From(began).Ticks - Tick;
        // On this machine's own clock, what is later than all that there was is later than the walk; another machine's may differ from
        // ours.
        var before = SourceIdentity.HasOurClock(_root) ? latest < start ? latest + 1 : start : latest - Tick;
        return before > 0 ? new FileTime(before).ToDateTime() : null;
    }

    /// <inheritdoc/>
    public async Task<SourceTree> WalkAsync(WalkOptions options, CancellationToken cancellation)
    {
        // Compared with an earlier image, a file may not be opened.
        var walk = new SourceWalk(options, cancellation)
        {
            AttributesLater = options.OpensAll && options.Earlier is null && !_windowsMetadata,
        };
        if (options.Avoid is not null && Posix.TryStat(null, PosixName.Encode(options.Avoid), out var own))
            walk.Avoid = (own.Device, own.Inode);
        var rootStat = Posix.Stat(_root);
        var root = new SourceNode(null, Describe(_root, ".\0"u8, "", rootStat, null, walk)) { Earlier = options.Earlier?.Root };
        walk.Folders = 1;
        foreach (var part in await WorkStealingRunner.RunAsync<Work, SourceWalk>(new Work(root, []), options.Workers, walk.Fork, Fill,
            cancellation).ConfigureAwait(false))
            walk.Join(part);
        return walk.Finish(root);
    }

    private SafeFileHandle OpenFolder(SourceNode node) => WithParent(node, (folder, path) => Posix.OpenFolder(folder, path));

    private T WithParent<T>(SourceNode node, Func<SafeFileHandle, byte[], T> work) =>
        PosixPath.WithParent(_root, PosixPath.Of(node, static n => n.Parent, static n => n.Name), work);

    // A folder to look into; or files of one that are still to be read before it is said to be as it was.
    private readonly record struct Work(SourceNode Node, string[] Path, bool IsChanged = false, Unread? Unread = null,
        Range Files = default);

    private void Fill(Work folder, SourceWalk walk, Action<Work> later)
    {
        SafeFileHandle? handle = null;
        try
        {
            if (folder.Unread is not null)
            {
                ReadBatch(folder, walk, later);
                return;
            }
            var names = walk.Names;
            if (walk.IsTooDeep(folder.Path, DisplayName))
                return;
            try
            {
                handle = OpenFolder(folder.Node);
                Posix.ReadFolder(handle, string.Join('/', folder.Path), names);
            }
            catch (NativeException failure)
            {
                walk.Unreadable(string.Join('/', folder.Path),
                    VembarException.From(failure, "read the folder", Path.Combine(DisplayName, string.Join('/', folder.Path)))!);
                return;
            }
            var mayLeaveOut = walk.Exclusions.MayLeaveOutBelow(folder.Path);
            if (!_windowsMetadata && !mayLeaveOut && !folder.IsChanged && Compare(folder, handle, walk) is { } alike
                && TakeOver(folder, alike, handle, walk, later))
            {
                walk.Tick();
                return;
            }
            var entries = new (string Name, int Index)[names.Count];
            for (var i = 0; i < entries.Length; i++)
                entries[i] = (names.Text(i), i);
            Array.Sort(entries, (a, b) => string.CompareOrdinal(a.Name, b.Name));
            string[] path = [.. folder.Path, ""];
            var folders = new List<SourceNode>();
            foreach (var (name, index) in entries)
            {
                path[^1] = name;
                if (Visit(walk, folder.Node, handle, path, name, names.Raw(index), mayLeaveOut) is { } inner)
                    folders.Add(inner);
                walk.Tick();
            }
            if (folder.Node.Earlier is { } earlier)
                walk.Earlier!.Match(folder.Node, earlier, ofVolume: false);
            // Only now is all known of them.
            foreach (var inner in folders)
                later(new Work(inner, [.. folder.Path, inner.Name]));
        }
        finally
        {
            handle?.Dispose();
        }
    }

    // A folder that is as it was by all that can be told without reading its files: what is to be read, and what to note then.
    private sealed class Unread
    {
        public List<SourceNode> Folders { get; } = [];
        public List<FileComparison.Known> ToRead { get; } = [];

        // The names of its files, where others read them.
        public PosixNames? Names { get; set; }
        public long Files { get; set; }
        public long Bytes { get; set; }
        public long Allocated { get; set; }
        public long Latest { get; set; }

        // Batches of files that are not read yet, and whether one of them differed.
        public int Left;
        public volatile bool Differs;
    }

    // Whether everything in a folder, but for what is in its folders, is as an earlier image has it. Then its folders are all
    // that is made of it: no path, no entry, no node for a file. Null when it is not.
    private static Unread? Compare(Work folder, SafeFileHandle handle, SourceWalk walk)
    {
        if (walk.Earlier is not { } image || folder.Node.Earlier is not { } earlier)
            return null;
        var names = walk.Names;
        var at = 0;
        var found = new Unread();
        var same = image.Compare(earlier, page =>
        {
            var entries = new FolderPageScanner(page);
            while (entries.Next(out var entry))
            {
                if (!entry.IsPlain || at == names.Count || !entry.Name.SequenceEqual(names[at])
                    || !Posix.TryStat(handle, names.Raw(at), out var stat))
                    return false;
                var kind = stat.Kind switch
                {
                    PosixKind.File => EntryKind.File,
                    PosixKind.Folder => EntryKind.Folder,
                    PosixKind.Link =>
                    EntryKind.Link,
                    _ => (EntryKind?)null
                };
                if (kind != entry.Kind || entry.Modified != FileTime.From(stat.Modified)
                    || entry.Owner != new PosixOwner(stat.Mode, stat.Uid, stat.Gid))
                    return false;
                // The change time tells of everything else, where times are trusted.
                if (image.TrustsTimes ? !image.IsOlder(FileTime.From(stat.Changed).Ticks) : !LooksAlike(entry, handle, names.Raw(at)))
                    return false;
                found.Latest = Math.Max(found.Latest, FileTime.From(stat.Changed).Ticks);
                if (kind == EntryKind.Folder)
                    found.Folders.Add(new SourceNode(folder.Node, new TreeEntry
                    {
                        Name = names.Text(at),
                        Kind = EntryKind.Folder,
                        Modified = entry.Modified,
                        Owner = entry.Owner,
                    })
                    { Earlier = entry.Folder });
                else
                    found.Files++;
                if (kind == EntryKind.File)
                {
                    // A file of several names is more than an entry of this folder.
                    if (stat.Size != entry.Length || stat.LinkCount != 1)
                        return false;
                    found.Bytes += stat.Size;
                    found.Allocated += Math.Min(stat.Size, stat.Allocated);
                    if (!image.TrustsTimes && stat.Size > 0)
                    {
                        // Holes are not read, so a file that has some takes the longer way.
                        if (stat.Allocated < stat.Size)
                            return false;
                        found.ToRead.Add(new FileComparison.Known(at, entry.Length, entry.Hash));
                    }
                }
                at++;
            }
            return true;
        });
        return same && at == names.Count ? found : null;
    }

    private static bool LooksAlike(EntryView entry, SafeFileHandle handle, ReadOnlySpan<byte> raw)
    {
        try
        {
            return !entry.HasAttributes && Posix.ListAttributes(handle, raw).Count == 0
                && (entry.Kind != EntryKind.Link
                || PosixName.Encode(Posix.ReadLink(handle, raw)).AsSpan()[..^1].SequenceEqual(entry.Target));
        }
        catch (NativeException)
        {
            return false;
        }
    }

    // Notes that a folder is as it was, once its files are read. A little is read at once; more is shared out, for those who walk
    // beside this one may have nothing else to do. False when a file differs.
    private static bool TakeOver(Work folder, Unread alike, SafeFileHandle handle, SourceWalk walk, Action<Work> later)
    {
        const long BatchBytes = 8 << 20;
        if (alike.ToRead.Count == 0 || alike.Bytes <= BatchBytes)
        {
            foreach (var (index, length, hash) in alike.ToRead)
            {
                if (!walk.Comparison.IsStill(handle, walk.Names.Raw(index), length, hash))
                    return false;
            }
            Settle(folder, alike, walk, later);
            return true;
        }
        alike.Names = walk.GiveNames();
        var batches = new List<Work>();
        var bytes = 0L;
        var start = 0;
        for (var i = 0; i < alike.ToRead.Count; i++)
        {
            bytes += alike.ToRead[i].Length;
            if (bytes < BatchBytes && i < alike.ToRead.Count - 1)
                continue;
            batches.Add(folder with { Unread = alike, Files = start..(i + 1) });
            start = i + 1;
            bytes = 0;
        }
        alike.Left = batches.Count;
        batches.ForEach(later);
        return true;
    }

    private void ReadBatch(Work batch, SourceWalk walk, Action<Work> later)
    {
        var alike = batch.Unread!;
        try
        {
            using var handle = OpenFolder(batch.Node);
            var (start, count) = batch.Files.GetOffsetAndLength(alike.ToRead.Count);
            for (var i = start; i < start + count && !alike.Differs; i++)
            {
                var (index, length, hash) = alike.ToRead[i];
                if (!walk.Comparison.IsStill(handle, alike.Names!.Raw(index), length, hash))
                    alike.Differs = true;
            }
        }
        catch (NativeException)
        {
            // Told when it is looked into once more.
            alike.Differs = true;
        }
        if (Interlocked.Decrement(ref alike.Left) > 0)
            return;
        if (alike.Differs)
            later(new Work(batch.Node, batch.Path, IsChanged: true));
        else
            Settle(batch, alike, walk, later);
        walk.Tick();
    }

    private static void Settle(Work folder, Unread alike, SourceWalk walk, Action<Work> later)
    {
        folder.Node.MarkAsItWas();
        folder.Node.Children!.AddRange(alike.Folders);
        walk.Folders += alike.Folders.Count;
        walk.Files += alike.Files;
        walk.Bytes += alike.Bytes;
        walk.Allocated += alike.Allocated;
        walk.Latest = Math.Max(walk.Latest, alike.Latest);
        if (alike.ToRead.Count > 0)
            walk.Read = (walk.Read.Files + alike.ToRead.Count, walk.Read.Bytes + alike.ToRead.Sum(f => f.Length));
        foreach (var inner in alike.Folders)
            later(new Work(inner, [.. folder.Path, inner.Name]));
    }

    // What is found, when it is a folder to look into.
    private SourceNode? Visit(SourceWalk walk, SourceNode folder, SafeFileHandle handle, string[] path, string name,
        ReadOnlySpan<byte> raw, bool mayLeaveOut)
    {
        if (mayLeaveOut && walk.Exclusions.RuleFor(path) is { } rule)
        {
            walk.Excluded.Add(new ExcludedEntry(string.Join('/', path), rule));
            return null;
        }
        try
        {
            var stat = Posix.Stat(handle, raw);
            if (stat.Inode == walk.Avoid.Inode && stat.Device == walk.Avoid.Device && walk.Avoid != default)
            {
                walk.Excluded.Add(new ExcludedEntry(string.Join('/', path), "the archive being written"));
                return null;
            }
            if (stat.Kind is PosixKind.Special or PosixKind.Disk)
            {
                walk.Excluded.Add(new ExcludedEntry(string.Join('/', path), "a pipe, socket or device"));
                return null;
            }
            var target = stat.Kind == PosixKind.Link ? Posix.ReadLink(handle, raw) : null;
            // A file that is going to be opened is asked for attributes then, in a shorter call.
            var later = walk.AttributesLater && stat is { Kind: PosixKind.File, Size: > 0, LinkCount: 1 };
            var entry = Describe(handle, raw, name, stat, target, walk, later);
            var isFolder = entry.Kind == EntryKind.Folder;
            var node = new SourceNode(folder, entry, folder.Children is { Count: > 0 } before ? before[^1] : null)
            {
                Changed = FileTime.From(stat.Changed).Ticks,
                FileId = stat.Inode,
                Length = entry.Kind == EntryKind.File ? stat.Kind == PosixKind.Link ? 0 : stat.Size : 0,
                LacksAttributes = later,
            };
            folder.Children!.Add(node);
            walk.Latest = Math.Max(walk.Latest, node.Changed);
            if (isFolder)
            {
                walk.Folders++;
                if (stat.Kind == PosixKind.Folder)
                    return ReparseTag.IsLink(entry.Reparse) ? null : node;
                // The mount shows it as something else, so nothing can be said of what is in it.
                if (!ReparseTag.IsLink(entry.Reparse))
                    walk.Unreadable(string.Join('/', path),
                        VembarException.Input("hidden-folder",
                        $"'{DisplayName}/{string.Join('/', path)}' is a reparse point that this mount does not look into; what is in it "
                        + $"cannot be read", "Capture the disk or its image instead of the mounted folder."));
                return null;
            }
            walk.Files++;
            walk.Allocated += Math.Min(node.Length, stat.Allocated);
            if (entry.Kind == EntryKind.File && stat.LinkCount > 1)
            {
                walk.AddLink((stat.Device, stat.Inode), node);
                return null;
            }
            walk.Bytes += node.Length;
        }
        catch (NativeException failure) when (failure.Errno == Errno.NotFound)
        {
            walk.Warnings.Add($"'{string.Join('/', path)}' went away while the folder was read; it is not in the image");
        }
        catch (NativeException failure)
        {
            walk.Unreadable(string.Join('/', path),
                VembarException.From(failure, "read", Path.Combine(DisplayName, string.Join('/', path)))!);
        }
        return null;
    }

    private static IReadOnlyList<NamedValue> Attributes(SafeFileHandle parent, ReadOnlySpan<byte> raw)
    {
        List<NamedValue>? attributes = null;
        foreach (var key in Posix.ListAttributes(parent, raw))
        {
            if (Posix.GetAttribute(parent, raw, key) is { } value)
                (attributes ??= []).Add(new NamedValue(key, value));
        }
        return attributes is null ? [] : attributes;
    }

    private TreeEntry Describe(SafeFileHandle parent, ReadOnlySpan<byte> raw, string name, PosixStat stat, string? target, SourceWalk walk,
        bool withoutAttributes = false)
    {
        if (_windowsMetadata)
            return DescribeWindows(parent, raw, name, stat, target, walk);
        // Access and change times belong to the Linux file, not to the install: reading or copying it would change them.
        return new TreeEntry
        {
            Name = name,
            Kind = stat.Kind switch { PosixKind.Folder => EntryKind.Folder, PosixKind.Link => EntryKind.Link, _ => EntryKind.File },
            Modified = FileTime.From(stat.Modified),
            LinkTarget = target,
            Owner = new PosixOwner(stat.Mode, stat.Uid, stat.Gid),
            PosixAttributes = withoutAttributes ? [] : Attributes(parent, raw),
        };
    }

    // ntfs-3g(8), "Extended attributes": values are as NTFS keeps them, those ending in _be in big-endian order.
    private TreeEntry DescribeWindows(SafeFileHandle parent, ReadOnlySpan<byte> raw, string name, PosixStat stat, string? target,
        SourceWalk walk)
    {
        var value = Posix.GetAttribute(parent, raw, "system.ntfs_attrib_be");
        var attributes = value is { Length: >= 4 } ? (WindowsAttributes)BinaryPrimitives.ReadUInt32BigEndian(value)
            : WindowsAttributes.None;
        var reparse = attributes.HasFlag(WindowsAttributes.Reparse) ? Posix.GetAttribute(parent, raw, "system.ntfs_reparse_data") : null;
        if (stat.Kind != PosixKind.Folder && ReparseTag.KeepsContentElsewhere(reparse))
            walk.KeptElsewhere(name, ReparseTag.Elsewhere);
        if (stat.Kind != PosixKind.Folder && CompactedForms.Of(reparse) != CompactedForm.None)
            walk.KeptElsewhere(name,
                "are compacted, which cannot be read through a mount (name the volume itself, its disk image or device)");
        if (attributes.HasFlag(WindowsAttributes.Encrypted))
            walk.Problems.Add(VembarException.Input("encrypted-file", $"'{DisplayName}/{name}' is encrypted by the file system",
                "Decrypt it on the reference, or leave it out."));
        var times = Posix.GetAttribute(parent, raw, "system.ntfs_times_be");
        FileTime? Time(int index) =>
            times is { Length: >= 32 } ? new FileTime(BinaryPrimitives.ReadInt64BigEndian(times.AsSpan(8 * index))) : null;
        var isFolder = reparse is null ? stat.Kind == PosixKind.Folder
            : attributes.HasFlag(WindowsAttributes.Directory) || stat.Kind == PosixKind.Folder;
        var acl = Posix.GetAttribute(parent, raw, "system.ntfs_acl");
        // The root has no short name, and asking for it is an error.
        var shortName = name.Length == 0 ? null : Posix.GetAttribute(parent, raw, "system.ntfs_dos_name");
        return new TreeEntry
        {
            Name = name,
            Kind = isFolder ? EntryKind.Folder : EntryKind.File,
            Attributes = attributes,
            Created = Time(0),
            Modified = Time(1) ?? FileTime.From(stat.Modified),
            Accessed = Time(2),
            Changed = Time(3),
            Reparse = reparse,
            ShortName = shortName is { Length: > 0 } ? PosixName.Decode(shortName) : null,
            ObjectId = Posix.GetAttribute(parent, raw, "system.ntfs_object_id"),
            ExtendedAttributes = ExtendedAttributeList.Parse(Posix.GetAttribute(parent, raw, "system.ntfs_ea")),
            PendingStreams = Streams(parent, raw),
            PendingSecurity = acl,
        };
    }

    private static List<PendingStream> Streams(SafeFileHandle parent, ReadOnlySpan<byte> raw)
    {
        const string Prefix = "user.";
        var streams = new List<PendingStream>();
        foreach (var key in Posix.ListAttributes(parent, raw))
        {
            if (key.StartsWith(Prefix, StringComparison.Ordinal))
                streams.Add(new PendingStream(key[Prefix.Length..], Posix.GetAttribute(parent, raw, key) ?? []));
        }
        return streams;
    }

    /// <summary>Opens a file of a walk for reading.</summary>
    /// <exception cref="NativeException">It cannot be opened.</exception>
    public ISourceFile Open(SourceNode node)
    {
        var file = WithParent(node, (folder, path) => Posix.OpenRead(folder, path));
        try
        {
            if (node.LacksAttributes && Posix.HasAttributes(file))
                node.Entry = node.Entry with { PosixAttributes = WithParent(node, (folder, path) => Attributes(folder, path)) };
            return new PosixSourceFile(file);
        }
        catch
        {
            file.Dispose();
            throw;
        }
    }

    // Windows paths do not tell case: each part is looked for in its folder.
    private string? Locate(WindowsPath path)
    {
        var at = DisplayName;
        foreach (var part in path.Parts)
        {
            var exact = Path.Combine(at, part);
            if (Path.Exists(exact))
            {
                at = exact;
                continue;
            }
            if (!Directory.Exists(at))
                return null;
            var match = Directory.EnumerateFileSystemEntries(at)
                .FirstOrDefault(e => Path.GetFileName(e).Equals(part, StringComparison.OrdinalIgnoreCase));
            if (match is null)
                return null;
            at = match;
        }
        return at;
    }

    private T Guarded<T>(WindowsPath path, Func<string?, T> read)
    {
        try
        {
            return read(Locate(path));
        }
        catch (Exception failure) when (failure is not VembarException
            && VembarException.From(failure, "read", $"{DisplayName}/{path}") is { } error)
        {
            throw error;
        }
    }

    /// <inheritdoc/>
    public IReadOnlyList<string> Names(WindowsPath folder) => Listing(folder, Directory.EnumerateFileSystemEntries);

    /// <inheritdoc/>
    public IReadOnlyList<string> Folders(WindowsPath folder) => Listing(folder, Directory.EnumerateDirectories);

    private IReadOnlyList<string> Listing(WindowsPath folder, Func<string, IEnumerable<string>> paths) =>
        Guarded<IReadOnlyList<string>>(folder,
        at => at is not null && Directory.Exists(at) ? [.. paths(at).Select(e => Path.GetFileName(e)).Order(StringComparer.Ordinal)] : []);

    /// <inheritdoc/>
    public bool Exists(WindowsPath path) => Guarded(path, at => at is not null);

    /// <inheritdoc/>
    public byte[]? ReadFile(WindowsPath path, long max) => Guarded(path, at =>
    {
        if (at is null || !File.Exists(at))
            return null;
        using var handle = Posix.OpenRead(null, PosixName.Encode(at));
        var length = Posix.Stat(handle).Size;
        if (length > max)
            throw VembarException.Input("file-too-large",
                $"{DisplayName}: '{path}' is {length} bytes long; at most {max} can be read here");
        var bytes = new byte[length];
        var got = Posix.Read(handle, bytes, 0);
        return got == bytes.Length ? bytes : bytes[..got];
    });

    /// <inheritdoc/>
    public byte[]? ReadStart(WindowsPath path, int count) => Guarded(path, at =>
    {
        if (at is null || !File.Exists(at))
            return null;
        using var handle = Posix.OpenRead(null, PosixName.Encode(at));
        var bytes = new byte[count];
        return bytes[..Posix.Read(handle, bytes, 0)];
    });

    /// <inheritdoc/>
    public void Dispose() => _root.Dispose();
}
