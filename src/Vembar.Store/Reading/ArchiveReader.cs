using System.Buffers;
using System.IO.Hashing;
using System.Text.Json;
using Vembar.Common;
using Vembar.Store.Format;
using Vembar.Store.Hashing;
using Vembar.Store.Index;
using Vembar.Store.Places;

namespace Vembar.Store.Reading;

/// <summary>
/// One state of an archive, open for reading. It takes no lock, and goes on seeing the state it opened while others write.
/// All members may be used by several threads at once.
/// </summary>
public sealed class ArchiveReader : IDisposable, IChunkSource
{
    private const int LargestChunk = 64 << 20;
    // Each thread has the block of content it is at, and the one before; of folders, what a long walk comes back to.
    private static readonly long s_contentBytes = (4 + 2L * Environment.ProcessorCount) * BlockSizes.Content;
    private const long TreeBytes = 128L * BlockSizes.Tree;

    private readonly IArchiveFile _file;
    private readonly IndexSegment[] _segments;
    private readonly BlockCache _content;
    private readonly BlockCache _trees;
    private readonly BaseArchives _bases;
    private readonly FoundState _state;
    private readonly Mending? _mending;
    private readonly Lazy<Dictionary<ChunkId, byte[]>> _recordCopies;
    private readonly Dictionary<ChunkId, Catalogue> _catalogues = [];

    private ArchiveReader(IArchiveFile file, ArchiveLocation place, ArchiveHeader header, FoundState state, long length,
        BaseArchives bases, Mending? mending)
    {
        _file = file;
        _bases = bases;
        _state = state;
        _mending = mending;
        Place = place;
        Header = header;
        FileLength = length;
        var problems = new List<string>();
        Problems = problems;
        _content = new BlockCache(ReadBlock, s_contentBytes);
        _trees = new BlockCache(ReadBlock, TreeBytes);
        _recordCopies = new Lazy<Dictionary<ChunkId, byte[]>>(ReadRecordBlocks);
        try
        {
            var newest = IndexSegment.Read(file, Commit.Index, Path, Limit(Commit.Index));
            // Newest first: what was added last is asked for most.
            _segments = [newest, .. newest.Earlier.Reverse().Select(extent => IndexSegment.Read(file, extent, Path, Limit(extent)))];
        }
        catch (VembarException problem) when (mending is not null && problem.Kind == ErrorKind.Damaged)
        {
            problems.Add(problem.Message);
            _segments = [Rebuilt()];
            IsIndexRebuilt = true;
        }
        try
        {
            Catalogue = ResolveCatalogue(Commit.Catalogue);
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged)
        {
            if (mending is null)
            {
                throw VembarException.Damaged(problem.Message,
                    Advice.Of("heal-or-rewind"));
            }
            problems.Add(problem.Message);
            Catalogue = new Catalogue();
            IsCatalogueLost = true;
        }
    }

    // Blocks of a state end before its index in format 1; afterwards the second copies of its record blocks come behind it.
    private long Limit(Extent index) => Header.IsFirstFormat ? index.Offset : Commit.Second;

    // An index of all sound blocks of the file.
    private IndexSegment Rebuilt()
    {
        var blocks = new List<BlockInfo>();
        var chunks = new ChunkTable();
        BlockScan.Run(_file, Header.Length, Math.Min(Commit.Second, FileLength), (block, lengths, plain) =>
        {
            var offset = 0;
            foreach (var length in lengths)
            {
                chunks.Set(Blake3.Hash(plain.Slice(offset, length)), blocks.Count, offset, length);
                offset += length;
            }
            blocks.Add(block);
        });
        var data = IndexSegment.Encode(blocks, chunks, []);
        return IndexSegment.Parse(data, new Extent(Commit.Index.Offset, data.Length, 0), Path, Commit.Second);
    }

    /// <summary>Opens the last valid state.</summary>
    /// <exception cref="VembarException">There is no such file, it is not an archive, or it is damaged.</exception>
    public static ArchiveReader Open(ArchiveLocation place, IFileSystem? fileSystem = null) => Open(place, fileSystem, 0);

    /// <summary>Opens the last valid state although its index or its catalogue may be damaged: to tell of it and to mend it.</summary>
    /// <exception cref="VembarException">There is no such file, it is not an archive, or no state of it can be found.</exception>
    internal static ArchiveReader OpenToMend(ArchiveLocation place, IFileSystem? fileSystem = null) =>
        Open(place, fileSystem, 0, new Mending());

    internal static ArchiveReader Open(ArchiveLocation place, IFileSystem? fileSystem, int depth, Mending? mending = null)
    {
        var path = place.Path;
        fileSystem ??= LocalFileSystem.Instance;
        if (Native.Posix.IsFolder(path))
            throw VembarException.Input("not-an-archive", $"'{path}' is a folder, not an archive",
                Advice.Of("not-an-archive"));
        IArchiveFile file;
        try
        {
            file = fileSystem.Open(path, write: false);
        }
        catch (Exception failure) when (VembarException.From(failure, "open the archive", path) is { } error)
        {
            throw error.Code == "not-found"
                ? VembarException.Input("no-such-archive", $"there is no archive '{path}'",
                Advice.Of("no-such-archive")) : error;
        }
        try
        {
            return Open(file, place, fileSystem, depth, mending);
        }
        catch
        {
            file.Dispose();
            throw;
        }
    }

    internal static ArchiveReader Open(IArchiveFile file, ArchiveLocation place, IFileSystem fileSystem, int depth = 0,
        Mending? mending = null)
    {
        var path = place.Path;
        try
        {
            var header = ArchiveHeader.Read(file, path);
            var length = file.Length;
            var state = StateFinder.Find(file, header, length) ?? throw VembarException.Damaged(
                $"'{path}' holds no complete state: it is cut short or its end is damaged",
                Advice.Of("take-copy-or-recover"));
            return new ArchiveReader(file, place, header, state, length, new BaseArchives(place, header, fileSystem, depth), mending);
        }
        catch (Exception failure) when (failure is not VembarException
            && VembarException.From(failure, "read the archive", path) is { } error)
        {
            throw error;
        }
    }

    /// <summary>Whether a file begins as an archive does.</summary>
    internal static bool IsArchive(string path)
    {
        try
        {
            using var file = LocalFileSystem.Instance.Open(path, write: false);
            return ArchiveHeader.IsOne(file);
        }
        catch (Exception failure) when (failure is IOException or UnauthorizedAccessException)
        {
            return false;
        }
    }

    /// <summary>The id that a file's header names; null when it has none.</summary>
    internal static Guid? IdOf(string path)
    {
        try
        {
            using var file = LocalFileSystem.Instance.Open(path, write: false);
            return ArchiveHeader.Read(file, path).Id;
        }
        catch (Exception failure) when (failure is VembarException or IOException or UnauthorizedAccessException or Native.NativeException)
        {
            return null;
        }
    }

    /// <summary>The archive's path as it was given.</summary>
    public string Path => Place.Path;

    /// <summary>Where it is, and where its bases are looked for.</summary>
    public ArchiveLocation Place { get; }

    /// <summary>The archives that it is based on.</summary>
    /// <exception cref="VembarException">One is not where it was looked for, is another one, or is damaged.</exception>
    public IReadOnlyList<ArchiveReader> Bases => _bases.All;

    /// <summary>The archive's header.</summary>
    public ArchiveHeader Header { get; }

    internal CommitRecord Commit => _state.Commit;

    internal Catalogue Catalogue { get; }

    /// <summary>How many changes the archive went through.</summary>
    public long Sequence => Commit.Sequence;

    /// <summary>The file's length when it was opened.</summary>
    public long FileLength { get; }

    /// <summary>Where this state ends in the file.</summary>
    public long CommittedLength => Commit.End;

    /// <summary>Bytes behind the last valid state: left over by an interrupted run, or the remains of a file that was cut short.</summary>
    public long UncommittedTail => Math.Max(0, FileLength - CommittedLength);

    /// <summary>Whether what is behind the last valid state is a newer one that is damaged; writing over it would lose it.</summary>
    public bool IsNewerStateDamaged => _state.Tail == TailKind.Damaged;

    /// <summary>Whether a run was interrupted between the two copies of the last record; the next change adds the second.</summary>
    public bool IsRecordSingle => _state.Second == RecordCopy.Missing;

    /// <summary>How the copies of the last state's record were found.</summary>
    internal (RecordCopy First, RecordCopy Second) RecordCopies => (_state.First, _state.Second);

    /// <summary>What is damaged of the state itself; only where it was opened to be mended.</summary>
    internal IReadOnlyList<string> Problems { get; }

    /// <summary>Whether the index was damaged and is made anew from the blocks.</summary>
    internal bool IsIndexRebuilt { get; }

    /// <summary>Whether both copies of the list of images are damaged.</summary>
    internal bool IsCatalogueLost { get; }

    internal IEnumerable<IndexSegment> Segments => _segments;

    internal IArchiveFile File => _file;

    /// <summary>Whether a chunk is stored, here or in a base.</summary>
    /// <exception cref="VembarException">It is not here and a base cannot be opened.</exception>
    public bool Contains(ChunkId id) => FindOwner(id, out _) is not null;

    /// <summary>The archive that stores a chunk, this one or a base, and where in it; null when there is none.</summary>
    /// <exception cref="VembarException">It is not here and a base cannot be opened.</exception>
    public ArchiveReader? FindOwner(ChunkId id, out ChunkPlace place) =>
        TryFind(id, out place) ? this : Header.Bases.Count == 0 ? null : _bases.FindOwner(id, out place);

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

    /// <summary>What somebody makes of this state, made when it is first asked for and kept with it.</summary>
    /// <param name="make">Makes it.</param>
    internal T View<T>(Func<ArchiveReader, T> make) where T : class
    {
        lock (_views)
        {
            if (!_views.TryGetValue(typeof(T), out var view))
                _views[typeof(T)] = view = make(this);
            return (T)view;
        }
    }

    private readonly Dictionary<Type, object> _views = [];

    /// <summary>A number that orders chunks as they lie in the archive, by the block that each is in; -1 for one that is not
    /// there.</summary>
    internal long OrderOf(ChunkId id)
    {
        if (FindOwner(id, out var place) is not { } holder)
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
    public void Use(ChunkId id, ChunkAction action)
    {
        if (FindOwner(id, out var place) is { } holder)
            holder.Use(id, place, action);
        else
            throw MissingChunk(id);
    }

    private VembarException MissingChunk(ChunkId id) => Header.Bases.Count == 0
            ? VembarException.Damaged($"'{Path}' lacks content that it names ({id})")
            : VembarException.Damaged($"neither '{Path}' nor its base '{Bases[0].Path}' holds content that it names ({id})",
            "Take a copy of the base from before images were dropped from it.");

    /// <summary>A chunk's plain bytes from its place in this archive, checked against its id.</summary>
    public ReadOnlyMemory<byte> Read(ChunkId id, ChunkPlace place)
    {
        var bytes = Array.Empty<byte>();
        Use(id, place, plain => bytes = plain.ToArray());
        return bytes;
    }

    private void Use(ChunkId id, ChunkPlace place, ChunkAction action)
    {
        if (place.Length > LargestChunk && place.Block.Kind == BlockKind.Content)
            throw VembarException.Damaged($"'{Path}' has a chunk longer than any may be");
        (place.Block.Kind == BlockKind.Content ? _content : _trees).Use(place.Block, block =>
        {
            if (place.Offset > place.Block.PlainLength - place.Length || Blake3.Hash(block.AsSpan(place.Offset, place.Length)) != id)
                throw VembarException.Damaged($"'{Path}' is damaged at byte {place.Block.Offset}: a piece of content does not match its "
                    + $"hash");
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
                throw VembarException.Damaged($"'{Path}' is damaged between byte {block.PayloadOffset} and "
                    + $"{block.PayloadOffset + block.StoredLength}: a checksum does not match");
            if (!block.IsSensible)
                throw VembarException.Damaged($"'{Path}' is damaged at byte {block.Offset}: a block says two lengths");
            if (block.Codec == Codec.Stored)
                return Detach(ref buffer!);
            if (block.PlainCodec is not (Codec.Stored or Codec.Zstd))
                throw VembarException.Input("newer-format",
                    $"'{Path}' uses a compression that this Vembar does not know ({(byte)block.Codec})", "Use a newer Vembar.");
            plain = ArrayPool<byte>.Shared.Rent(block.PlainLength);
            return block.TryExpand(stored, plain) ? Detach(ref plain!)
                : throw VembarException.Damaged($"'{Path}' is damaged at byte {block.Offset}: a block does not expand");
        }
        catch (Exception failure) when (failure is not VembarException
            && VembarException.From(failure, "read the archive", Path) is { } error)
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
    private static byte[] Detach(ref byte[]? array)
    {
        var taken = array!;
        array = null;
        return taken;
    }

    /// <summary>The states that the archive went through since it was made or rewritten, newest first; up to the first whose record is
    /// damaged.</summary>
    /// <returns>Each with its list of images, or with what is wrong with that; the last one without a record where it is damaged.</returns>
    internal List<FormerState> States()
    {
        var commits = new List<CommitRecord>();
        string? broken = null;
        for (var commit = Commit; ;)
        {
            commits.Add(commit);
            if (commit.Previous == 0)
                break;
            if (commit.ReadPrevious(_file, Header) is not { } previous)
            {
                broken = $"'{Path}': the record of the state before state {commit.Sequence}, at byte {commit.Previous}, is damaged";
                break;
            }
            commit = previous;
        }
        // The oldest first: most catalogues are told as a change of the one before.
        var states = new List<FormerState>();
        for (var i = commits.Count - 1; i >= 0; i--)
        {
            try
            {
                states.Add(new FormerState(commits[i], ResolveCatalogue(commits[i].Catalogue), ""));
            }
            catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged)
            {
                states.Add(new FormerState(commits[i], null, problem.Message));
            }
        }
        states.Reverse();
        if (broken is not null)
            states.Add(new FormerState(null, null, broken));
        return states;
    }

    /// <summary>The whole catalogue that a chunk, and those that it is a change of, describe.</summary>
    /// <exception cref="VembarException">One of them is damaged in both copies.</exception>
    internal Catalogue ResolveCatalogue(ChunkId id)
    {
        const int Kept = 4;
        var changes = new Stack<(ChunkId Id, Catalogue Change)>();
        Catalogue? whole;
        while (!_catalogues.TryGetValue(id, out whole))
        {
            var stored = ReadRecord(id, RecordJson.Default.Catalogue, "catalogue of images");
            if (stored.Since is not { } since)
            {
                whole = stored;
                break;
            }
            changes.Push((id, stored));
            id = since;
        }
        while (changes.TryPop(out var change))
        {
            whole = change.Change.On(whole);
            id = change.Id;
        }
        if (_catalogues.Count >= Kept)
            _catalogues.Clear();
        return _catalogues[id] = whole;
    }

    /// <summary>The bytes of a record or a catalogue, from the copy that is sound.</summary>
    /// <exception cref="VembarException">Both are damaged.</exception>
    internal ReadOnlyMemory<byte> ReadRecord(ChunkId id)
    {
        // Records are never in a base.
        if (TryFind(id, out var place))
        {
            try
            {
                return Read(id, place);
            }
            catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged)
            {
                // Then the other copy.
            }
        }
        if (_recordCopies.Value.TryGetValue(id, out var copy))
            return copy;
        return _mending?.Elsewhere(id) ?? throw VembarException.Damaged($"'{Path}' does not hold it any more ({id})");
    }

    /// <summary>A record or a catalogue, from the copy that is sound.</summary>
    /// <param name="id">Its id.</param>
    /// <param name="type">What it is.</param>
    /// <param name="what">What it is called, for messages.</param>
    /// <exception cref="VembarException">Both copies are damaged.</exception>
    internal T ReadRecord<T>(ChunkId id, System.Text.Json.Serialization.Metadata.JsonTypeInfo<T> type, string what)
    {
        try
        {
            return JsonSerializer.Deserialize(ReadRecord(id).Span, type) ?? throw new JsonException("nothing there");
        }
        catch (JsonException problem)
        {
            throw VembarException.Damaged($"'{Path}': the {what} cannot be read: {problem.Message}");
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged)
        {
            throw VembarException.Damaged($"'{Path}': the {what} is damaged in both its copies: {problem.Message}");
        }
    }

    // All chunks of sound record blocks, wherever the index has them.
    private Dictionary<ChunkId, byte[]> ReadRecordBlocks()
    {
        var copies = new Dictionary<ChunkId, byte[]>();
        foreach (var block in RecordBlocks())
        {
            try
            {
                if (BlockScan.LengthsOf(_file, block) is not { } lengths)
                    continue;
                var plain = ReadBlock(block);
                var offset = 0;
                foreach (var length in lengths)
                {
                    var bytes = plain.AsSpan(offset, length).ToArray();
                    copies[Blake3.Hash(bytes)] = bytes;
                    offset += length;
                }
                ArrayPool<byte>.Shared.Return(plain);
            }
            catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged)
            {
                // Then it is not sound.
            }
        }
        return copies;
    }

    /// <summary>All blocks of records, both copies of each.</summary>
    internal IEnumerable<BlockInfo> RecordBlocks() =>
        _segments.SelectMany(s => Enumerable.Range(0, s.BlockCount).Select(s.Block)).Where(b => b.Kind == BlockKind.Record);

    /// <inheritdoc/>
    public void Dispose()
    {
        _bases.Dispose();
        _file.Dispose();
    }
}
