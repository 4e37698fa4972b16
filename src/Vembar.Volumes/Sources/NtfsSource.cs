using System.Buffers.Binary;
using System.Collections.Concurrent;
using System.Globalization;
using Vembar.Common;
using Vembar.Common.Tasks;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Records;
using Vembar.Native;
using Vembar.Volumes.Compaction;
using Vembar.Volumes.Disks;

namespace Vembar.Volumes.Sources;

/// <summary>
/// An NTFS volume as the root of an install. Nothing of it is written, not a time and not a flag. Each thread reads through
/// a handle of its own.
/// </summary>
public sealed class NtfsSource : ISource
{
    // Streams up to here are read while the file is open anyway; longer ones when they are stored.
    private const int ShortStream = 64 << 10;
    private const int KeptFolders = 64;

    private readonly Func<IBlockDevice> _open;
    private readonly ConcurrentBag<NtfsVolume> _idle = [];
    private readonly Dictionary<WindowsPath, List<NtfsName>?> _folders = [];
    private readonly Lock _gate = new();

    private NtfsSource(string displayName, Func<IBlockDevice> open)
    {
        DisplayName = displayName;
        _open = open;
    }

    /// <summary>Opens a volume.</summary>
    /// <param name="displayName">What it is, for messages.</param>
    /// <param name="open">Opens the bytes that it lies on; called once for every thread that reads.</param>
    /// <exception cref="VembarException">It is not NTFS, or too damaged to be read.</exception>
    public static NtfsSource Open(string displayName, Func<IBlockDevice> open)
    {
        var source = new NtfsSource(displayName, open);
        try
        {
            using (var device = open())
            {
                const int SerialAt = 0x48;
                Span<byte> boot = stackalloc byte[512];
                if (device.Read(boot, 0) == boot.Length)
                    source.Identity = BinaryPrimitives.ReadUInt64LittleEndian(boot[SerialAt..])
                        .ToString("x16", CultureInfo.InvariantCulture);
            }
            var volume = source.Rent();
            source.IsDirty = volume.IsDirty;
            source.IsJournalClean = NtfsJournal.IsClean(volume);
            source.Label = volume.Label;
            source.Return(volume);
            return source;
        }
        catch (Exception failure)
        {
            source.Dispose();
            if (failure is NativeException { Errno: Errno.Invalid or Errno.InputOutput } native)
                throw VembarException.Input("bad-volume", $"{displayName} cannot be read as NTFS: {native.Message}",
                    "It may be damaged or cut short: let Windows check it (chkdsk), or take it from another copy.");
            if (VembarException.From(failure, "open", displayName) is { } error)
                throw error;
            throw;
        }
    }

    /// <inheritdoc/>
    public string Kind => "volume";

    /// <inheritdoc/>
    public string DisplayName { get; }

    /// <summary>The volume's serial number.</summary>
    public string Identity { get; private set; } = "";

    /// <summary>The volume's label.</summary>
    public string Label { get; private set; } = "";

    /// <summary>True when Windows did not close the volume cleanly.</summary>
    public bool IsDirty { get; private set; }

    /// <summary>Whether Windows has written all that its journal holds to where it belongs.</summary>
    public bool IsJournalClean { get; private set; } = true;

    /// <inheritdoc/>
    public bool KeepsChangeTimes => true;

    /// <inheritdoc/>
    public DateTime? ChangedBefore(DateTime began, long latest) => null;

    private NtfsVolume Rent()
    {
        if (_idle.TryTake(out var volume))
            return volume;
        var device = _open();
        try
        {
            return NtfsVolume.Open(device, write: false);
        }
        catch
        {
            device.Dispose();
            throw;
        }
    }

    private void Return(NtfsVolume volume) => _idle.Add(volume);

    /// <inheritdoc/>
    public async Task<SourceTree> WalkAsync(WalkOptions options, CancellationToken cancellation)
    {
        var walk = new SourceWalk(options, cancellation);
        var visited = new ConcurrentDictionary<ulong, byte>();
        var volume = Rent();
        SourceNode root;
        try
        {
            using (var file = volume.Open(NtfsVolume.Root, "/"))
                root = new SourceNode(null, Describe(walk, file, file.Describe(), "", NtfsVolume.Root, []));
            walk.Folders = 1;
            visited[NtfsVolume.Root] = 0;
        }
        catch (NativeException failure)
        {
            throw VembarException.From(failure, "read", DisplayName)!;
        }
        finally
        {
            Return(volume);
        }
        void Step((SourceNode Node, string[] Path) folder, SourceWalk part, Action<(SourceNode Node, string[] Path)> later)
        {
            var own = Rent();
            try
            {
                Fill(part, own, folder, visited, later);
            }
            finally
            {
                Return(own);
            }
        }
        foreach (var part in await WorkStealingRunner.RunAsync<(SourceNode Node, string[] Path), SourceWalk>((root, []), options.Workers,
            walk.Fork, Step, cancellation).ConfigureAwait(false))
            walk.Join(part);
        var tree = walk.Finish(root);
        if (options.Earlier is { } earlier)
            await earlier.MatchVolumeAsync(root, options.Workers, cancellation).ConfigureAwait(false);
        return tree;
    }

    private void Fill(SourceWalk walk, NtfsVolume volume, (SourceNode Node, string[] Path) folder,
        ConcurrentDictionary<ulong, byte> visited, Action<(SourceNode Node, string[] Path)> later)
    {
        List<NtfsName> names;
        if (walk.IsTooDeep(folder.Path, DisplayName))
            return;
        try
        {
            using var file = volume.Open(folder.Node.Parent is null ? NtfsVolume.Root : folder.Node.FileId, string.Join('/', folder.Path));
            names = file.Names();
        }
        catch (NativeException failure)
        {
            walk.Unreadable(string.Join('/', folder.Path), Unreadable(failure, folder.Path));
            return;
        }
        // In the order of their records on the disk; by name afterwards.
        names.Sort((a, b) => (a.Reference & NumberMask).CompareTo(b.Reference & NumberMask));
        string[] path = [.. folder.Path, ""];
        foreach (var (name, child) in names)
        {
            // NTFS' own files, and the root's name for itself.
            if ((child & NumberMask) < NtfsVolume.FirstUserFile)
                continue;
            path[^1] = name;
            if (TreeLimits.NameProblem(name) is { } wrong)
                walk.Unreadable(string.Join('/', path), VembarException.Input("damaged-folder",
                    $"{DisplayName}: '{string.Join('/', path)}' cannot be the name of a file: {wrong}",
                    Advice.Of("damaged-folder")));
            else
                Visit(walk, volume, folder.Node, path, name, child);
            walk.Tick();
        }
        folder.Node.Children!.Sort((a, b) => string.CompareOrdinal(a.Name, b.Name));
        LeaveOutTwins(walk, folder);
        foreach (var node in folder.Node.Children.Where(c => c.Kind == EntryKind.Folder && !ReparseTag.IsLink(c.Entry.Reparse)))
        {
            path[^1] = node.Name;
            if (visited.TryAdd(node.FileId & NumberMask, 0))
                later((node, [.. path]));
            else
                walk.Problems.Add(VembarException.Input("folder-circle", $"{DisplayName}: the folder '{string.Join('/', path)}' is "
                    + $"found a second time; the volume is damaged", "Let Windows check it (chkdsk)."));
        }
    }

    private const ulong NumberMask = 0xFFFFFFFFFFFF;

    // A damaged index may list a name twice; nobody could tell which one is meant.
    private void LeaveOutTwins(SourceWalk walk, (SourceNode Node, string[] Path) folder)
    {
        var children = folder.Node.Children!;
        for (var i = children.Count - 1; i > 0; i--)
        {
            var first = i;
            while (first > 0 && children[first - 1].Name == children[i].Name)
                first--;
            if (first == i)
                continue;
            var path = string.Join('/', [.. folder.Path, children[i].Name]);
            walk.Unreadable(path, VembarException.Input("damaged-folder", $"{DisplayName}: '{path}' is in its folder twice",
                Advice.Of("damaged-folder")));
            for (; i >= first; i--)
            {
                walk.Forget(children[i]);
                children.RemoveAt(i);
            }
            i++;
        }
    }

    private void Visit(SourceWalk walk, NtfsVolume volume, SourceNode folder, string[] path, string name, ulong reference)
    {
        if (walk.Exclusions.RuleFor(path) is { } rule)
        {
            walk.Excluded.Add(new ExcludedEntry(string.Join('/', path), rule));
            return;
        }
        try
        {
            using var file = volume.Open(reference, string.Join('/', path));
            var description = file.Describe();
            if (!description.IsFolder && ReparseTag.KeepsContentElsewhere(description.Reparse))
            {
                walk.KeptElsewhere(string.Join('/', path), ReparseTag.Elsewhere);
                return;
            }
            var entry = Describe(walk, file, description, name, folder.Parent is null ? NtfsVolume.Root : folder.FileId, path);
            var node = new SourceNode(folder, entry) { Length = entry.Kind == EntryKind.File ? description.Length : 0, FileId = reference };
            folder.Children!.Add(node);
            if (entry.Kind == EntryKind.Folder)
            {
                walk.Folders++;
                return;
            }
            walk.Files++;
            if (entry.Compaction == CompactedForm.None)
                walk.Allocated += Math.Min(node.Length, file.AllocatedLength);
            else
            {
                walk.Allocated += node.Length;
                // A file of several names counts once.
                var first = description.Names.FirstOrDefault(n => n.IsLong);
                if (first.Name == name && first.Parent == ((folder.Parent is null ? NtfsVolume.Root : folder.FileId) & NumberMask))
                {
                    walk.Compacted =
                        walk.Compacted.Plus(new CompactedCount(1, node.Length,
                        description.Streams.FirstOrDefault(s => s.Name == CompactedForms.Stream).Length));
                }
            }
            if (description.Names.Count(n => n.IsLong) > 1)
                walk.AddLink((0, reference & NumberMask), node);
            else
                walk.Bytes += node.Length;
        }
        catch (NativeException failure)
        {
            walk.Unreadable(string.Join('/', path), Unreadable(failure, path));
        }
    }

    private VembarException Unreadable(NativeException failure, string[] path) =>
        failure.Errno is not (Errno.AccessDenied or Errno.NotPermitted)
        ? VembarException.Input("unreadable", $"{DisplayName}: '{string.Join('/', path)}' cannot be read: {failure.Message}",
        Advice.Of("unreadable"))
        : VembarException.From(failure, "read", $"{DisplayName}/{string.Join('/', path)}")!;

    private TreeEntry Describe(SourceWalk walk, NtfsFile file, NtfsDescription description, string name, ulong parent, string[] path)
    {
        var attributes = (WindowsAttributes)description.Attributes;
        var form = description.IsFolder ? CompactedForm.None : CompactedForms.Of(description.Reparse);
        const WindowsAttributes IsNotHere = (WindowsAttributes)(0x40000 | 0x400000);
        if (!description.IsFolder && (attributes & IsNotHere) != 0)
            walk.Problems.Add(VembarException.Input("placeholder-file", $"{DisplayName}: '{string.Join('/', path)}' is a placeholder: "
                + $"its content is on a server, not on the volume",
                Advice.Of("placeholder-file")));
        if (attributes.HasFlag(WindowsAttributes.Encrypted))
            walk.Problems.Add(VembarException.Input("encrypted-file", $"{DisplayName}: '{string.Join('/', path)}' is encrypted by the "
                + $"file system", Advice.Of("encrypted-file")));
        List<PendingStream>? streams = null;
        foreach (var (stream, length) in description.Streams)
        {
            if (form != CompactedForm.None && stream == CompactedForms.Stream)
                continue;
            if (length > ShortStream)
            {
                var number = file.Number;
                (streams ??= []).Add(new PendingStream(stream, null, () => OpenStream(number, stream, string.Join('/', path))));
                continue;
            }
            using var data = file.OpenData(stream);
            var bytes = new byte[data.Length];
            (streams ??= []).Add(new PendingStream(stream, bytes[..data.Read(bytes, 0)]));
        }
        return new TreeEntry
        {
            Name = name,
            Kind = description.IsFolder ? EntryKind.Folder : EntryKind.File,
            // A compacted file is a plain one of that content.
            Attributes = form == CompactedForm.None ? attributes : attributes & ~(WindowsAttributes.Reparse | WindowsAttributes.Sparse),
            Created = new FileTime(description.Created),
            Modified = new FileTime(description.Modified),
            Accessed = new FileTime(description.Accessed),
            Changed = new FileTime(description.Changed),
            Reparse = form == CompactedForm.None ? description.Reparse : null,
            Compaction = form,
            ShortName = name.Length == 0 ? null
            : description.Names.FirstOrDefault(n => n.IsShort && n.Parent == (parent & NumberMask)).Name,
            ObjectId = description.ObjectId,
            ExtendedAttributes = ExtendedAttributeList.Parse(description.ExtendedAttributes),
            PendingStreams = streams ?? [],
            PendingSecurity = description.Security,
        };
    }

    /// <inheritdoc/>
    public ISourceFile Open(SourceNode node)
    {
        if (node.Entry.Compaction == CompactedForm.None)
            return OpenStream(node.FileId, "", node.Path.ToString());
        var displayName = node.Path.ToString();
#pragma warning disable CA2000 // owned by the file that is returned
        var stream = OpenStream(node.FileId, CompactedForms.Stream, displayName);
#pragma warning restore CA2000
        return new CompactedFile(stream, new CompactedContent(node.Entry.Compaction, node.Length, stream.Length, stream.Read),
            $"{DisplayName}: '{displayName}'");
    }

    private SourceFile OpenStream(ulong reference, string stream, string displayName)
    {
#pragma warning disable CA2000 // given back to the idle ones
        var volume = Rent();
#pragma warning restore CA2000
        NtfsFile? file = null;
        try
        {
            file = volume.Open(reference, displayName);
            return new SourceFile(this, volume, file, file.OpenData(stream));
        }
        catch
        {
            file?.Dispose();
            Return(volume);
            throw;
        }
    }

    private sealed class SourceFile(NtfsSource source, NtfsVolume volume, NtfsFile file, NtfsData data) : ISourceFile
    {
        public long Length => data.Length;

        public int Read(Span<byte> to, long offset) => data.Read(to, offset);

        public (long Start, long End) NextData(long offset) => data.NextData(offset);

        // Whoever reads a volume that is in use reads rubbish anyway; nothing can be told from here.
        public bool HasChanged() => false;

        public void Dispose()
        {
            data.Dispose();
            file.Dispose();
            source.Return(volume);
        }
    }

    private T With<T>(WindowsPath path, Func<NtfsVolume, T> work)
    {
        var volume = Rent();
        try
        {
            return work(volume);
        }
        catch (NativeException failure)
        {
            throw Unreadable(failure, [.. path.Parts]);
        }
        finally
        {
            Return(volume);
        }
    }

    // Null when there is no such folder. What is looked for is looked for near each other.
    private List<NtfsName>? Listing(NtfsVolume volume, WindowsPath folder)
    {
        lock (_gate)
        {
            if (_folders.TryGetValue(folder, out var kept))
                return kept;
        }
        List<NtfsName>? names = null;
        if (Locate(volume, folder) is { } reference)
        {
            using var file = volume.Open(reference, folder.ToString());
            names = file.IsFolder ? file.Names() : null;
        }
        lock (_gate)
        {
            if (_folders.Count >= KeptFolders)
                _folders.Clear();
            return _folders[folder] = names;
        }
    }

    private ulong? Locate(NtfsVolume volume, WindowsPath path)
    {
        if (path.IsRoot)
            return NtfsVolume.Root;
        var name = path.Parts[^1];
        if (Listing(volume, path.Parent) is not { } names)
            return null;
        var found = names.FirstOrDefault(n => n.Name == name);
        if (found.Name is null)
            found = names.FirstOrDefault(n => n.Name.Equals(name, StringComparison.OrdinalIgnoreCase));
        return found.Name is null ? null : found.Reference;
    }

    /// <inheritdoc/>
    public IReadOnlyList<string> Names(WindowsPath folder) =>
        With<IReadOnlyList<string>>(folder,
        volume => Listing(volume, folder) is { } names ? [.. names.Select(n => n.Name).Order(StringComparer.Ordinal)] : []);

    /// <inheritdoc/>
    public bool Exists(WindowsPath path) => With(path, volume => Locate(volume, path) is not null);

    /// <inheritdoc/>
    public byte[]? ReadFile(WindowsPath path, long max) => WithData(path, data => data.Length <= max ? data.Length
        : throw VembarException.Input("file-too-large",
        $"{DisplayName}: '{path}' is {data.Length} bytes long; at most {max} can be read here"));

    /// <inheritdoc/>
    public byte[]? ReadStart(WindowsPath path, int count) => WithData(path, data => Math.Min(count, data.Length));

    // As many bytes of a file's beginning as are asked for; null when there is no such file.
    private byte[]? WithData(WindowsPath path, Func<NtfsData, long> length) => With(path, volume =>
    {
        if (Locate(volume, path) is not { } reference)
            return null;
        using var file = volume.Open(reference, path.ToString());
        if (file.IsFolder)
            return null;
        using var data = file.OpenData();
        var bytes = new byte[length(data)];
        var form = CompactedForms.Of(file.Describe().Reparse);
        if (form == CompactedForm.None)
        {
            var got = data.Read(bytes, 0);
            return got == bytes.Length ? bytes : bytes[..got];
        }
        using var stream = file.OpenData(CompactedForms.Stream);
        try
        {
            new CompactedContent(form, data.Length, stream.Length, stream.Read).Read(bytes, 0);
            return bytes;
        }
        catch (InvalidDataException damage)
        {
            throw VembarException.Input("unreadable", $"{DisplayName}: '{path}': {damage.Message}",
                "Let Windows check the volume (chkdsk), or take the disk from another copy.");
        }
    });

    /// <inheritdoc/>
    public void Dispose()
    {
        foreach (var volume in _idle)
            volume.Dispose();
    }
}
