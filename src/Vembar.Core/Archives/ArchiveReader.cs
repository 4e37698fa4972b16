using System.Buffers;
using System.IO.Hashing;
using System.Text.Json;
using Vembar.Core.Content;

namespace Vembar.Core.Archives;

/// <summary>
/// One state of an archive, open for reading. It takes no lock, and goes on seeing the state it opened while others write.
/// All members may be used by several threads at once.
/// </summary>
public sealed class ArchiveReader : IDisposable, Trees.IChunkSource
{
    private const int LargestChunk = 64 << 20;
    private readonly IArchiveFile _file;
    private readonly IndexSegment[] _segments;
    private readonly BlockCache _content;
    private readonly BlockCache _trees;
    private readonly BaseArchives _bases;

    private ArchiveReader(IArchiveFile file, ArchivePlace place, ArchiveHeader header, CommitRecord commit, long length, BaseArchives bases)
    {
        _file = file;
        _bases = bases;
        Place = place;
        Header = header;
        Commit = commit;
        FileLength = length;
        var newest = IndexSegment.Read(file, commit.Index, Path);
        // Newest first: what was added last is asked for most.
        _segments = [newest, .. newest.Earlier.Reverse().Select(extent => IndexSegment.Read(file, extent, Path))];
        // Each thread has the block it is at, and the one before.
        _content = new BlockCache(this, 4 + 2 * Environment.ProcessorCount);
        _trees = new BlockCache(this, 128);
        var catalogue = ReadRecord(commit.Catalogue, RecordJson.Default.Catalogue, "catalogue");
        Catalogue = catalogue;
        Images = [.. catalogue.Images.Select(ReadImage).OrderBy(i => i.Number)];
    }

    /// <summary>Opens the last valid state.</summary>
    /// <exception cref="VembarException">There is no such file, it is not an archive, or it is damaged.</exception>
    public static ArchiveReader Open(ArchivePlace place, IFileLayer? layer = null) => Open(place, layer, 0);

    internal static ArchiveReader Open(ArchivePlace place, IFileLayer? layer, int depth)
    {
        var path = place.Path;
        layer ??= SystemFileLayer.Instance;
        if (Directory.Exists(path))
            throw VembarException.Input("not-an-archive", $"'{path}' is a folder, not an archive", "Name a .vmb file that `vembar capture` made.");
        IArchiveFile file;
        try
        {
            file = layer.Open(path, write: false);
        }
        catch (Exception failure) when (VembarException.From(failure, "open the archive", path) is { } error)
        {
            throw error.Code == "not-found" ? VembarException.Input("no-such-archive", $"there is no archive '{path}'", "Check the path, or make it with `vembar capture`.") : error;
        }
        try
        {
            return Open(file, place, layer, depth);
        }
        catch
        {
            file.Dispose();
            throw;
        }
    }

    internal static ArchiveReader Open(IArchiveFile file, ArchivePlace place, IFileLayer layer, int depth = 0)
    {
        var path = place.Path;
        try
        {
            var header = ArchiveHeader.Read(file, path);
            var length = file.Length;
            var commit = FindCommit(file, header, length) ?? throw VembarException.Damaged(
                $"'{path}' holds no complete state: it is cut short or its end is damaged", "Take it from another copy, or save what can be read with `vembar verify ARCHIVE --recover NEW.vmb`.");
            return new ArchiveReader(file, place, header, commit, length, new BaseArchives(place, header, layer, depth));
        }
        catch (Exception failure) when (failure is not VembarException && VembarException.From(failure, "read the archive", path) is { } error)
        {
            throw error;
        }
    }

    /// <summary>The id that a file's header names; null when it has none.</summary>
    internal static Guid? IdOf(string path)
    {
        try
        {
            using var file = SystemFileLayer.Instance.Open(path, write: false);
            return ArchiveHeader.Read(file, path).Id;
        }
        catch (Exception failure) when (failure is VembarException or IOException or UnauthorizedAccessException or Native.NativeException)
        {
            return null;
        }
    }

    // The last place first; then every aligned place before it, so that a tail of an interrupted run is passed over.
    private static CommitRecord? FindCommit(IArchiveFile file, ArchiveHeader header, long length)
    {
        const int Window = 1 << 20;
        var buffer = new byte[Window + CommitRecord.Length];
        var end = (length - CommitRecord.Length) / CommitRecord.Alignment * CommitRecord.Alignment;
        for (var last = true; end >= header.Length; last = false)
        {
            var start = last ? end : Math.Max(end - Window, 0) / CommitRecord.Alignment * CommitRecord.Alignment;
            var count = file.Read(buffer.AsSpan(0, (int)Math.Min(buffer.Length, length - start)), start);
            for (var at = end; at >= start && at >= header.Length; at -= CommitRecord.Alignment)
            {
                var bytes = buffer.AsSpan(0, count)[(int)(at - start)..];
                if (CommitRecord.TryRead(bytes, header.Id, at) is { } commit)
                    return commit;
            }
            end = start - CommitRecord.Alignment;
        }
        return null;
    }

    /// <summary>The archive's path as it was given.</summary>
    public string Path => Place.Path;

    /// <summary>Where it is, and where its bases are looked for.</summary>
    public ArchivePlace Place { get; }

    /// <summary>The archives that it is based on.</summary>
    /// <exception cref="VembarException">One is not where it was looked for, is another one, or is damaged.</exception>
    public IReadOnlyList<ArchiveReader> Bases => _bases.All;

    /// <summary>The archive's header.</summary>
    public ArchiveHeader Header { get; }

    internal CommitRecord Commit { get; }

    internal Catalogue Catalogue { get; }

    /// <summary>How many changes the archive went through.</summary>
    public long Sequence => Commit.Sequence;

    /// <summary>The file's length when it was opened.</summary>
    public long FileLength { get; }

    /// <summary>Where this state ends in the file.</summary>
    public long StateEnd => Commit.Offset + CommitRecord.Length;

    /// <summary>Bytes behind the last valid state: left over by an interrupted run, or the remains of a file that was cut short.</summary>
    public long LeftOver => FileLength - StateEnd;

    /// <summary>The images in the order of their numbers.</summary>
    public IReadOnlyList<ImageRecord> Images { get; }

    internal IEnumerable<IndexSegment> Segments => _segments;

    internal IArchiveFile File => _file;

    /// <summary>Whether a chunk is stored, here or in a base.</summary>
    /// <exception cref="VembarException">It is not here and a base cannot be opened.</exception>
    public bool Contains(ChunkId id) => Holder(id, out _) is not null;

    /// <summary>The archive that stores a chunk, this one or a base, and where in it; null when there is none.</summary>
    /// <exception cref="VembarException">It is not here and a base cannot be opened.</exception>
    public ArchiveReader? Holder(ChunkId id, out ChunkPlace place) => TryFind(id, out place) ? this : Header.Bases.Count == 0 ? null : _bases.Holder(id, out place);

    /// <summary>Where in this archive itself a chunk is stored.</summary>
    public bool TryFind(ChunkId id, out ChunkPlace place)
    {
        foreach (var segment in _segments)
        {
            if (segment.TryFind(id, out place))
                return true;
        }
        place = default;
        return false;
    }

    /// <summary>A number that orders contents as they lie in the archive, by the block that they begin in; -1 for nothing.</summary>
    internal long OrderOf(Trees.FileContent? content)
    {
        if (content is not { Length: > 0 })
            return -1;
        var id = content.Parts is { Count: > 0 } parts ? parts[0].Id : content.List;
        if (Holder(id, out var place) is not { } holder)
            return -1;
        // What lies in a base comes after what lies in the archive itself.
        return holder == this ? place.Block.Offset : place.Block.Offset | 1L << 62;
    }

    /// <summary>A chunk's plain bytes, checked against its id.</summary>
    /// <exception cref="VembarException">It is not there or damaged.</exception>
    public ReadOnlyMemory<byte> Read(ChunkId id)
    {
        var bytes = Array.Empty<byte>();
        Use(id, plain => bytes = plain.ToArray());
        return bytes;
    }

    /// <inheritdoc/>
    public void Use(ChunkId id, Trees.ChunkAction action)
    {
        if (Holder(id, out var place) is { } holder)
            holder.Use(id, place, action);
        else
            throw Lacking(id);
    }

    private VembarException Lacking(ChunkId id) => Header.Bases.Count == 0
            ? VembarException.Damaged($"'{Path}' lacks content that it names ({id})")
            : VembarException.Damaged($"neither '{Path}' nor its base '{Bases[0].Path}' holds content that it names ({id})", "Take a copy of the base from before images were dropped from it.");

    /// <summary>A chunk's plain bytes from its place in this archive, checked against its id.</summary>
    public ReadOnlyMemory<byte> Read(ChunkId id, ChunkPlace place)
    {
        var bytes = Array.Empty<byte>();
        Use(id, place, plain => bytes = plain.ToArray());
        return bytes;
    }

    private void Use(ChunkId id, ChunkPlace place, Trees.ChunkAction action)
    {
        if (place.Length > LargestChunk && place.Block.Kind == BlockKind.Content)
            throw VembarException.Damaged($"'{Path}' has a chunk longer than any may be");
        (place.Block.Kind == BlockKind.Content ? _content : _trees).Use(place.Block, block =>
        {
            if (place.Offset > place.Block.PlainLength - place.Length || Blake3.Hash(block.AsSpan(place.Offset, place.Length)) != id)
                throw VembarException.Damaged($"'{Path}' is damaged at byte {place.Block.Offset}: a piece of content does not match its hash");
            action(block.AsSpan(place.Offset, place.Length));
        });
    }

    /// <summary>Reads and expands a block.</summary>
    /// <returns>An array of the shared pool whose beginning is the block's plain bytes; the caller gives it back.</returns>
    /// <exception cref="VembarException">Its checksum or its content is wrong.</exception>
    internal byte[] ReadBlock(BlockInfo block)
    {
        var buffer = ArrayPool<byte>.Shared.Rent(block.StoredLength);
        byte[]? plain = null;
        try
        {
            var stored = buffer.AsSpan(0, block.StoredLength);
            if (_file.Read(stored, block.PayloadOffset) < stored.Length)
                throw VembarException.Damaged($"'{Path}' is cut short: a block at byte {block.Offset} reaches beyond its end");
            if (XxHash3.HashToUInt64(stored) != block.Checksum)
                throw VembarException.Damaged($"'{Path}' is damaged between byte {block.PayloadOffset} and {block.PayloadOffset + block.StoredLength}: a checksum does not match");
            if (block.Codec == Codec.Stored)
            {
                if (block.StoredLength != block.PlainLength)
                    throw VembarException.Damaged($"'{Path}' is damaged at byte {block.Offset}: a block says two lengths");
                return Taken(ref buffer!);
            }
            if (block.Codec != Codec.Zstd)
                throw VembarException.Input("newer-format", $"'{Path}' uses a compression that this Vembar does not know ({(byte)block.Codec})", "Use a newer Vembar.");
            plain = ArrayPool<byte>.Shared.Rent(block.PlainLength);
            var zstd = ZstdPool.Rent();
            var good = zstd.TryExpand(stored, plain.AsSpan(0, block.PlainLength));
            ZstdPool.Return(zstd);
            return good ? Taken(ref plain!) : throw VembarException.Damaged($"'{Path}' is damaged at byte {block.Offset}: a block does not expand");
        }
        catch (Exception failure) when (failure is not VembarException && VembarException.From(failure, "read the archive", Path) is { } error)
        {
            throw error;
        }
        finally
        {
            foreach (var left in (byte[]?[])[buffer, plain])
            {
                if (left is not null)
                    ArrayPool<byte>.Shared.Return(left);
            }
        }
    }

    // The array goes to the caller and is not given back here.
    private static byte[] Taken(ref byte[]? array)
    {
        var taken = array!;
        array = null;
        return taken;
    }

    /// <summary>The states that the archive went through since it was made or rewritten, newest first.</summary>
    /// <exception cref="VembarException">The record of one is damaged.</exception>
    internal IEnumerable<(CommitRecord Commit, Catalogue Catalogue)> States()
    {
        var buffer = new byte[CommitRecord.Length];
        for (var commit = Commit; ;)
        {
            yield return (commit, ReadRecord(commit.Catalogue, RecordJson.Default.Catalogue, "catalogue of an earlier state"));
            if (commit.Previous == 0)
                yield break;
            commit = (_file.Read(buffer, commit.Previous) == buffer.Length ? CommitRecord.TryRead(buffer, Header.Id, commit.Previous) : null)
                ?? throw VembarException.Damaged($"'{Path}': the record of an earlier state at byte {commit.Previous} is damaged");
        }
    }

    internal ImageRecord ReadImage(CatalogueEntry entry) => ReadRecord(entry.Record, RecordJson.Default.ImageRecord, $"record of image {entry.Number}");

    private T ReadRecord<T>(ChunkId id, System.Text.Json.Serialization.Metadata.JsonTypeInfo<T> type, string what)
    {
        try
        {
            return JsonSerializer.Deserialize(Read(id).Span, type) ?? throw new JsonException("nothing there");
        }
        catch (JsonException problem)
        {
            throw VembarException.Damaged($"'{Path}': the {what} cannot be read: {problem.Message}");
        }
    }

    /// <summary>Finds an image.</summary>
    /// <param name="which">A number, a name (compared without case), or "last"; null means the only one.</param>
    /// <exception cref="VembarException">There is none, with the names that there are and the nearest.</exception>
    public ImageRecord Find(string? which)
    {
        if (Images.Count == 0)
            throw VembarException.Input("no-such-image", $"'{Path}' holds no images", LeftOver > 0 ? "It is cut short or a capture into it was interrupted." : "Add one with `vembar capture`.");
        if (which is null)
        {
            return Images.Count == 1 ? Images[0] : throw VembarException.Input(
                "which-image", $"'{Path}' holds {Images.Count} images", "Say which one with ARCHIVE#NUMBER, ARCHIVE#\"NAME\" or ARCHIVE#last.", Names());
        }
        if (which.Equals("last", StringComparison.OrdinalIgnoreCase) && !Images.Any(i => i.Name.Equals(which, StringComparison.OrdinalIgnoreCase)))
            return Images[^1];
        var found = Images.FirstOrDefault(i => i.Name.Equals(which, StringComparison.OrdinalIgnoreCase))
            ?? (int.TryParse(which, System.Globalization.CultureInfo.InvariantCulture, out var number) ? Images.FirstOrDefault(i => i.Number == number) : null);
        if (found is not null)
            return found;
        var nearest = Images.MinBy(i => Likeness.Distance(i.Name, which))!;
        var near = Likeness.Distance(nearest.Name, which) <= Math.Max(2, which.Length / 3);
        throw VembarException.Input("no-such-image", $"'{Path}' holds no image '{which}'", near ? $"Did you mean \"{nearest.Name}\" (number {nearest.Number})?" : "Name one of those it holds.", Names());
    }

    private string[] Names() => [.. Images.Select(i => $"{i.Number}: {i.Name}")];

    /// <inheritdoc/>
    public void Dispose()
    {
        _bases.Dispose();
        _file.Dispose();
    }

    // Expanded blocks, the least recently used goes first. Two threads that want the same block expand it once. The bytes
    // are from a pool: large arrays that come and go would be most of the collector's work.
    private sealed class BlockCache(ArchiveReader reader, int capacity)
    {
        private readonly LinkedList<Entry> _order = new();
        private readonly Dictionary<long, LinkedListNode<Entry>> _nodes = [];
        private readonly Lock _gate = new();

        private sealed class Entry(BlockInfo block, Lazy<byte[]> bytes)
        {
            public long Offset => block.Offset;
            public byte[] Bytes => bytes.Value;
            public int Users { get; set; }
            public bool IsOut { get; set; }

            // Nobody looks at it any more and nobody will find it.
            public void GiveBack()
            {
                if (Users == 0 && IsOut && bytes.IsValueCreated)
                    ArrayPool<byte>.Shared.Return(bytes.Value);
            }
        }

        public void Use(BlockInfo block, Action<byte[]> action)
        {
            Entry entry;
            lock (_gate)
            {
                if (_nodes.TryGetValue(block.Offset, out var node))
                {
                    _order.Remove(node);
                    _order.AddFirst(node);
                    entry = node.Value;
                }
                else
                {
                    entry = new Entry(block, new Lazy<byte[]>(() => reader.ReadBlock(block)));
                    _nodes[block.Offset] = _order.AddFirst(entry);
                    if (_order.Count > capacity)
                    {
                        var last = _order.Last!.Value;
                        _nodes.Remove(last.Offset);
                        _order.RemoveLast();
                        last.IsOut = true;
                        last.GiveBack();
                    }
                }
                entry.Users++;
            }
            try
            {
                action(entry.Bytes);
            }
            finally
            {
                lock (_gate)
                {
                    entry.Users--;
                    entry.GiveBack();
                }
            }
        }
    }
}
