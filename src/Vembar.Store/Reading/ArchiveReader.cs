using System.Buffers;
using System.Collections.Concurrent;
using System.IO.Hashing;
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

    // Of a remote archive, how much of its beginning and of its end is read at once when it is opened.
    private const int RemoteStart = 4 << 10, RemoteEnd = 64 << 10;

    private readonly IByteSource _file;
    private readonly IndexSegment[] _segments;
    private readonly BlockCache _content;
    private readonly BlockCache _trees;
    private readonly BaseArchives _bases;
    private readonly FoundState _state;
    private readonly ArchiveRecords _records;
    private readonly RemoteBlocks? _remote;
    // Chunks of blocks of trees that were read from afar: those beside what was looked for are looked for next.
    private readonly ConcurrentDictionary<ChunkId, ChunkPlace> _nearby = new();

    private ArchiveReader(IByteSource file, ArchiveLocation place, ArchiveHeader header, FoundState state, long length,
        BaseArchives bases, Mending? mending, bool isWriter, IBlockStore? blocks)
    {
        _file = file;
        _remote = file.IsRemote ? new RemoteBlocks(file, blocks) : null;
        _bases = bases;
        _state = state;
        Place = place;
        Header = header;
        FileLength = length;
        var problems = new List<string>();
        Problems = problems;
        _content = new BlockCache(ReadBlock, s_contentBytes);
        _trees = new BlockCache(ReadBlock, TreeBytes);
        _records = new ArchiveRecords(this, mending);
        try
        {
            var newest = IndexSegment.Open(file, [Commit.Index], Path, Limit)[0];
            // Newest first: what was added last is asked for most.
            _segments = [newest, .. IndexSegment.Open(file, newest.Earlier, Path, Limit).Reverse()];
            // What is added refers to all that is there, so that has to be as it was written.
            if (isWriter || mending is not null)
                EnsureWholeIndex();
        }
        catch (VembarException problem) when (mending is not null && problem.Kind == ErrorKind.Damaged)
        {
            problems.Add(problem.Message);
            _segments = [Rebuilt()];
            IsIndexRebuilt = true;
        }
        try
        {
            if (file.IsRemote)
                _records.ReadAhead();
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
                chunks.Set(Blake3.Hash(plain.Span.Slice(offset, length)), blocks.Count, offset, length);
                offset += length;
            }
            blocks.Add(block);
        });
        var data = IndexEncoder.Encode(blocks, chunks, []);
        return IndexSegment.Parse(data, _file, new Extent(Commit.Index.Offset, data.Length, 0), Path, Commit.Second);
    }

    /// <summary>Opens the last valid state.</summary>
    /// <exception cref="VembarException">There is no such file, it is not an archive, or it is damaged.</exception>
    public static ArchiveReader Open(ArchiveLocation place, IFileSystem? fileSystem = null) => Open(place, fileSystem, 0);

    /// <summary>Opens the last valid state of an archive whose bytes are anywhere.</summary>
    /// <param name="source">The bytes; disposed with the reader.</param>
    /// <param name="place">What it is called, and where its bases are looked for.</param>
    /// <exception cref="VembarException">It is not an archive, or it is damaged.</exception>
    public static ArchiveReader Open(IByteSource source, ArchiveLocation place) => Open(source, place, LocalFileSystem.Instance);

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
                Advice.Of("not-an-archive", ("path", path)));
        IByteSource? file = null;
        try
        {
            file = fileSystem.OpenRead(path);
        }
        catch (Exception failure) when (VembarException.From(failure, "open the archive", path) is { } error)
        {
            throw error.Code == "not-found"
                ? VembarException.Input("no-such-archive", $"there is no archive '{path}'",
                Advice.Of("no-such-archive", ("path", path))) : error;
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

    internal static ArchiveReader Open(IByteSource file, ArchiveLocation place, IFileSystem fileSystem, int depth = 0,
        Mending? mending = null, bool isWriter = false)
    {
        var path = place.Path;
        try
        {
            if (file.IsRemote)
                file = BufferedByteSource.Over(file, RemoteStart, RemoteEnd);
            var header = ArchiveHeader.Read(file, path);
            var length = file.Length;
            var state = StateFinder.Find(file, header, length) ?? throw VembarException.Damaged(
                $"'{path}' holds no complete state: it is cut short or its end is damaged",
                Advice.Of("take-copy-or-recover"));
            if (place.State is { } number && mending is null && !isWriter)
                (state, length) = Earlier(file, place, header, state, number);
            else if (state.Tail == TailKind.Damaged && mending is null && !isWriter)
                fileSystem.Tell(new Notice($"a newer state of '{path}' is damaged; state {state.Commit.Sequence} is read",
                    Advice.Of("newer-state-known", ("path", path))));
            return new ArchiveReader(file, place, header, state, length, new BaseArchives(place, header, fileSystem, depth), mending,
                isWriter, file.IsRemote ? fileSystem.Blocks : null);
        }
        catch (Exception failure) when (failure is not VembarException
            && VembarException.From(failure, "read the archive", path) is { } error)
        {
            throw error;
        }
    }

    // As if nothing had been written after it.
    private static (FoundState State, long Length) Earlier(IByteSource file, ArchiveLocation place, ArchiveHeader header, FoundState last,
        long number)
    {
        for (var commit = last.Commit; ;)
        {
            if (commit.Sequence == number)
                return (new FoundState(commit, new Lazy<RecordCopy>(RecordCopy.Whole), RecordCopy.Whole, TailKind.None), commit.End);
            if (commit.Sequence < number || commit.Previous == 0 || commit.ReadPrevious(file, header) is not { } previous)
                throw VembarException.Input("no-such-state", $"'{place.Path}' has no whole state {number}; the last one is "
                    + $"{last.Commit.Sequence}", Advice.Of("history", ("path", place.Path)));
            commit = previous;
        }
    }

    /// <summary>Whether a file begins as an archive does.</summary>
    internal static bool IsArchive(string path)
    {
        try
        {
            using var file = LocalFileSystem.Instance.OpenRead(path);
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
            using var file = LocalFileSystem.Instance.OpenRead(path);
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

    /// <summary>Tells this state from all others, of this archive and of any: id, number, length and the beginning of a hash.</summary>
    public string StateTag => string.Create(System.Globalization.CultureInfo.InvariantCulture,
        $"{Header.Id:n}-{Sequence}-{CommittedLength}-{Commit.Catalogue.ToString()[..12]}");

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
    internal (RecordCopy First, RecordCopy Second) RecordCopies => (_state.First.Value, _state.Second);

    /// <summary>What is damaged of the state itself; only where it was opened to be mended.</summary>
    internal IReadOnlyList<string> Problems { get; }

    /// <summary>Whether the index was damaged and is made anew from the blocks.</summary>
    internal bool IsIndexRebuilt { get; }

    /// <summary>Whether both copies of the list of images are damaged.</summary>
    internal bool IsCatalogueLost { get; }

    internal IEnumerable<IndexSegment> Segments => _segments;

    internal IByteSource File => _file;

    /// <summary>Whether it is far away, so that a request costs much more than the bytes that it brings.</summary>
    internal bool IsRemote => _remote is not null;

    /// <inheritdoc/>
    public bool Contains(ChunkId id) => FindOwner(id, out _) is not null;

    /// <summary>The archive that stores a chunk, this one or a base, and where in it; null when there is none.</summary>
    /// <exception cref="VembarException">It is not here and a base cannot be opened.</exception>
    public ArchiveReader? FindOwner(ChunkId id, out ChunkPlace place) =>
        TryFind(id, out place) ? this : Header.Bases.Count == 0 ? null : _bases.FindOwner(id, out place);

    /// <summary>Where in this archive itself a chunk is stored.</summary>
    public bool TryFind(ChunkId id, out ChunkPlace place)
    {
        if (_nearby.TryGetValue(id, out place))
            return true;
        foreach (var segment in _segments)
        {
            if (segment.TryFind(id, out place))
                return true;
        }
        return false;
    }

    /// <summary>Makes sure that all of the index is as it was written.</summary>
    /// <exception cref="VembarException">It is damaged.</exception>
    internal void EnsureWholeIndex()
    {
        foreach (var segment in _segments)
            segment.EnsureWhole();
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
        if (FindOwner(id, out var place) is not { } holder)
        {
            EnsureWholeIndex();
            throw MissingChunk(id);
        }
        holder.Use(id, place, action);
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
        try
        {
            UseOnce(id, place, action);
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged && _remote is not null && _fresh.TryAdd(place.Block, true))
        {
            // What is kept here of it may be something else; what is there counts.
            (place.Block.Kind == BlockKind.Content ? _content : _trees).Forget(place.Block);
            UseOnce(id, place, action);
        }
    }

    // Blocks that are not taken from what is kept here.
    private readonly ConcurrentDictionary<BlockInfo, bool> _fresh = new();

    private void UseOnce(ChunkId id, ChunkPlace place, ChunkAction action)
    {
        if (place.Length > LargestChunk && place.Block.Kind == BlockKind.Content)
            throw VembarException.Damaged($"'{Path}' has a chunk longer than any may be");
        try
        {
            (place.Block.Kind == BlockKind.Content ? _content : _trees).Use(place.Block, block =>
            {
                if (place.Offset > place.Block.PlainLength - place.Length || Blake3.Hash(block.AsSpan(place.Offset, place.Length)) != id)
                    throw VembarException.Damaged($"'{Path}' is damaged at byte {place.Block.Offset}: a piece of content does not match "
                        + $"its hash");
                action(block.AsSpan(place.Offset, place.Length));
            });
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged)
        {
            // The block may be sound, and the index, of which only a page was looked at, be damaged.
            EnsureWholeIndex();
            throw;
        }
    }

    /// <summary>Reads and expands a block.</summary>
    /// <returns>An array of the shared pool whose beginning is the block's plain bytes; the caller gives it back.</returns>
    /// <exception cref="VembarException">Its checksum or its content is wrong.</exception>
    internal byte[] ReadBlock(BlockInfo block)
    {
        // The head of a block of folders says which chunks are in it; from afar that saves looking for those that are wanted next.
        var head = _remote is not null ? (int)(block.PayloadOffset - block.Offset) : 0;
        var buffer = ArrayPool<byte>.Shared.Rent(head + block.StoredLength);
        byte[]? plain = null;
        try
        {
            var stored = buffer.AsSpan(head, block.StoredLength);
            if (!ReadStored(block, buffer.AsSpan(0, head + block.StoredLength)))
                throw VembarException.Damaged($"'{Path}' is cut short: a block at byte {block.Offset} reaches beyond its end");
            if (XxHash3.HashToUInt64(stored) != block.Checksum)
                throw VembarException.Damaged($"'{Path}' is damaged between byte {block.PayloadOffset} and "
                    + $"{block.PayloadOffset + block.StoredLength}: a checksum does not match");
            if (!block.IsSensible)
                throw VembarException.Damaged($"'{Path}' is damaged at byte {block.Offset}: a block says two lengths");
            if (block.Codec == Codec.Stored && head == 0)
                return Detach(ref buffer!);
            if (block.PlainCodec is not (Codec.Stored or Codec.Zstd))
                throw VembarException.Input("newer-format",
                    $"'{Path}' uses a compression that this Vembar does not know ({(byte)block.Codec})", "Use a newer Vembar.");
            plain = ArrayPool<byte>.Shared.Rent(block.PlainLength);
            if (!block.TryExpand(stored, plain))
                throw VembarException.Damaged($"'{Path}' is damaged at byte {block.Offset}: a block does not expand");
            if (head > 0 && block.Kind == BlockKind.Tree)
                Remember(block, buffer, plain);
            return Detach(ref plain!);
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

    /// <summary>Reads a block as it stands in the file, head included; nothing of it is checked.</summary>
    /// <returns>False when the file ends before it does.</returns>
    internal bool TryReadWhole(BlockInfo block, Span<byte> to) =>
        _remote is not null ? _remote.Read(block, to, fresh: false) : _file.Read(to, block.Offset) == to.Length;

    private bool ReadStored(BlockInfo block, Span<byte> to) => _remote is not null
        ? _remote.Read(block, to, fresh: _fresh.ContainsKey(block)) : _file.Read(to, block.PayloadOffset) == to.Length;

    /// <summary>Says which blocks will be read, in that order, so that those of a remote archive are fetched ahead. Of a local one nothing
    /// is done.</summary>
    /// <returns>What ends it; null for nothing.</returns>
    internal IDisposable? FetchAhead(IEnumerable<BlockInfo> blocks) => _remote?.FetchAhead(blocks.Where(b => b.IsSensible).Distinct());

    /// <summary>Gets ready for much of an image to be looked at: of a remote archive, the index is read whole, and blocks of folders are
    /// fetched ahead.</summary>
    /// <returns>What ends it; null for nothing.</returns>
    internal IDisposable? FetchTrees()
    {
        if (_remote is null)
            return null;
        EnsureWholeIndex();
        return FetchAhead(TreeBlocks());
    }

    /// <summary>The blocks of folders that are fetched then: the newest, up to a limit, in the order of their places.</summary>
    internal IEnumerable<BlockInfo> TreeBlocks()
    {
        const long Most = 48L << 20;
        var left = Most;
        // The newest lie at the end.
        return _segments.SelectMany(s => Enumerable.Range(0, s.BlockCount).Select(s.Block)).Where(b => b.Kind == BlockKind.Tree)
            .OrderByDescending(b => b.Offset).TakeWhile(b => (left -= b.WholeLength) >= 0).OrderBy(b => b.Offset);
    }

    /// <summary>The block that a chunk of this archive itself is in; null when it is in another one or nowhere.</summary>
    internal BlockInfo? BlockOf(ChunkId id) => TryFind(id, out var place) ? place.Block : null;

    private void Remember(BlockInfo block, ReadOnlySpan<byte> bytes, ReadOnlySpan<byte> plain)
    {
        var offset = 0;
        foreach (var length in BlockScan.LengthsIn(bytes, block) ?? [])
        {
            _nearby[Blake3.Hash(plain.Slice(offset, length))] = new ChunkPlace(block, offset, length);
            offset += length;
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

    /// <inheritdoc cref="ArchiveRecords.Catalogue"/>
    internal Catalogue ResolveCatalogue(ChunkId id) => _records.Catalogue(id);

    /// <inheritdoc cref="ArchiveRecords.Read(ChunkId)"/>
    internal ReadOnlyMemory<byte> ReadRecord(ChunkId id) => _records.Read(id);

    /// <inheritdoc cref="ArchiveRecords.Read{T}"/>
    internal T ReadRecord<T>(ChunkId id, System.Text.Json.Serialization.Metadata.JsonTypeInfo<T> type, string what) =>
        _records.Read(id, type, what);

    /// <summary>All blocks of records, both copies of each.</summary>
    internal IEnumerable<BlockInfo> RecordBlocks() =>
        _segments.SelectMany(s => Enumerable.Range(0, s.BlockCount).Select(s.Block)).Where(b => b.Kind == BlockKind.Record);

    /// <inheritdoc/>
    public void Dispose()
    {
        _remote?.Dispose();
        _bases.Dispose();
        _file.Dispose();
    }
}
