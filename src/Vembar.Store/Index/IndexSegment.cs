using System.Buffers.Binary;
using System.IO.Hashing;
using Vembar.Common;
using Vembar.Common.Formats;
using Vembar.Store.Format;
using Vembar.Store.Hashing;
using Vembar.Store.Places;

namespace Vembar.Store.Index;

/// <summary>
/// The chunks and blocks that a commit added, as one run of bytes: blocks by number, chunks sorted by id with a fan-out
/// table by their first byte. docs/archive-format.md, "Index segment". A small one is read and checked as a whole. Of a large one the
/// head is read; the table of blocks and the pages of chunks when they are asked for: then a damaged page shows as a chunk that is not
/// found, or not where it should be, and whoever sees that asks <see cref="EnsureWhole"/> whether it is the index's fault.
/// </summary>
internal sealed class IndexSegment
{
    internal const int HeadLength = 32, EarlierLength = 24, BlockLength = 32, ChunkLength = 44, FanOutLength = 256 * 4;
    private const long Large = 16 << 20;
    // How long a segment may be to be read as a whole, and how much of a longer one is read at once.
    private const int LocalWhole = 8 << 20, RemoteWhole = 16 << 10, LocalPage = 64 << 10, RemotePage = 16 << 10;
    private static ReadOnlySpan<byte> Magic => "VIDX"u8;

    private readonly IByteSource _file;
    private readonly string _path;
    private readonly long _limit;
    private readonly int _tableAt;
    private readonly long _chunksAt;
    private readonly int _pageRows;
    private readonly Lock _gate = new();
    private volatile byte[]? _whole;
    private volatile byte[]? _table;
    private readonly byte[]?[] _pages;

    public int BlockCount { get; }
    public int ChunkCount { get; }
    public Extent Extent { get; }

    /// <summary>The segments that are needed beside this one, oldest first.</summary>
    public IReadOnlyList<Extent> Earlier { get; }

    private IndexSegment(IByteSource file, ReadOnlySpan<byte> start, Extent extent, string path, long limit)
    {
        _file = file;
        _path = path;
        _limit = limit;
        Extent = extent;
        var reader = new BinaryFormatReader(start, "index segment");
        if (!reader.Bytes(4).SequenceEqual(Magic))
            throw reader.Error("it does not begin as one");
        reader.UInt32();
        if (reader.UInt64() != (ulong)extent.Length)
            throw reader.Error("its length is not what it says");
        var blocks = reader.UInt32();
        var chunks = reader.UInt32();
        var earlier = reader.UInt32();
        reader.UInt32();
        if (HeadLength + (long)earlier * EarlierLength + (long)blocks * BlockLength + FanOutLength + (long)chunks * ChunkLength + 8
            != extent.Length || HeadLength + (long)earlier * EarlierLength > start.Length)
            throw reader.Error("its counts do not fit its length");
        BlockCount = (int)blocks;
        ChunkCount = (int)chunks;
        var list = new Extent[earlier];
        for (var i = 0; i < list.Length; i++)
        {
            list[i] = new Extent(reader.Int64(), reader.Int64(), reader.UInt64());
            if (list[i].Offset <= 0 || list[i].Length <= 0 || list[i].Offset > extent.Offset - list[i].Length)
                throw reader.Error("an earlier segment lies outside of the file");
        }
        Earlier = list;
        _tableAt = reader.Position;
        _chunksAt = _tableAt + TableLength;
        _pageRows = (file.IsRemote ? RemotePage : LocalPage) / ChunkLength;
        _pages = new byte[]?[(ChunkCount + _pageRows - 1) / _pageRows];
    }

    private long TableLength => (long)BlockCount * BlockLength + FanOutLength;

    /// <summary>Reads a segment as a whole.</summary>
    /// <param name="file">The archive's file.</param>
    /// <param name="extent">Where it is.</param>
    /// <param name="path">The archive's path, for messages.</param>
    /// <param name="limit">Where the last block may end at most, in the file.</param>
    /// <exception cref="VembarException">It is damaged.</exception>
    public static IndexSegment Read(IByteSource file, Extent extent, string path, long limit) =>
        Parse(ReadWhole(file, extent, path), file, extent, path, limit);

    /// <summary>Opens segments with one request, and another one where some have very many earlier ones.</summary>
    /// <param name="file">The archive's file.</param>
    /// <param name="extents">Where they are.</param>
    /// <param name="path">The archive's path, for messages.</param>
    /// <param name="limit">Where the last block of each may end at most, in the file.</param>
    /// <exception cref="VembarException">One is damaged, as far as was looked at.</exception>
    public static IReadOnlyList<IndexSegment> Open(IByteSource file, IReadOnlyList<Extent> extents, string path, Func<Extent, long> limit)
    {
        const int Head = 4096, MostHead = 256 << 10;
        var most = file.IsRemote ? RemoteWhole : LocalWhole;
        // From afar as much as the table of blocks most often takes, so that it needs no request of its own.
        int HeadOf(Extent extent) => file.IsRemote ? (int)Math.Clamp(extent.Length / 128, Head, MostHead) : Head;
        foreach (var extent in extents)
        {
            if (extent.Length > Array.MaxLength || extent.Length < HeadLength + 8 || extent.Offset > file.Length - extent.Length)
                throw Damaged(path, extent);
        }
        var parts = extents.Select(e => new ByteRange(e.Offset, new byte[e.Length <= most ? e.Length : HeadOf(e)])).ToList();
        file.ReadMany(parts);
        var longer = parts.Select((p, i) => new ByteRange(p.Offset, new byte[LengthOfHead(p, extents[i])])).ToList();
        file.ReadMany(longer.Where((l, i) => l.Buffer.Length > parts[i].Buffer.Length).ToList());
        return extents.Select((extent, i) =>
        {
            var part = longer[i].Buffer.Length > parts[i].Buffer.Length ? longer[i] : parts[i];
            if (!part.IsComplete || (part.Count == extent.Length && XxHash3.HashToUInt64(part.Buffer.Span) != extent.Checksum))
                throw Damaged(path, extent);
            if (part.Count == extent.Length)
                return Parse(part.Buffer.ToArray(), file, extent, path, limit(extent));
            return InWords(path, () =>
            {
                var segment = new IndexSegment(file, part.Buffer.Span, extent, path, limit(extent));
                if (segment._chunksAt <= part.Count)
                    segment.TakeTable(part.Buffer[segment._tableAt..(int)segment._chunksAt]);
                return segment;
            });
        }).ToList();
    }

    // The head with the list of earlier segments, which may be longer than what was read.
    private static int LengthOfHead(ByteRange part, Extent extent)
    {
        if (part.Count < HeadLength)
            return 0;
        var earlier = BinaryPrimitives.ReadUInt32LittleEndian(part.Buffer.Span[24..]);
        return (int)Math.Min(HeadLength + (long)earlier * EarlierLength, Math.Min(extent.Length, Large));
    }

    /// <summary>A segment from its bytes.</summary>
    /// <exception cref="VembarException">They make no sense.</exception>
    public static IndexSegment Parse(byte[] data, IByteSource file, Extent extent, string path, long limit) => InWords(path, () =>
    {
        var segment = new IndexSegment(file, data, extent, path, limit);
        segment.CheckTable(data.AsSpan(segment._tableAt, (int)segment.TableLength));
        segment._whole = data;
        return segment;
    });

    private static T InWords<T>(string path, Func<T> read)
    {
        try
        {
            return read();
        }
        catch (BinaryFormatException problem)
        {
            throw VembarException.Damaged($"'{path}': {problem.Message}");
        }
    }

    private void CheckTable(ReadOnlySpan<byte> table)
    {
        for (var i = 0; i < BlockCount; i++)
        {
            var block = BlockAt(table[(i * BlockLength)..]);
            if (block.Offset < ArchiveHeader.FixedLength || !block.IsSensible || block.Offset > _limit - block.WholeLength)
                throw new BinaryFormatException("index segment", _tableAt + i * BlockLength, $"block {i} makes no sense");
        }
        var before = 0;
        var fanOut = table[(BlockCount * BlockLength)..];
        for (var i = 0; i < 256; i++)
        {
            var to = BinaryPrimitives.ReadInt32LittleEndian(fanOut[(4 * i)..]);
            if (to < before || to > ChunkCount)
                throw new BinaryFormatException("index segment", _tableAt + BlockCount * BlockLength + 4 * i,
                    "the fan-out table is not in order");
            before = to;
        }
        if (before != ChunkCount)
            throw new BinaryFormatException("index segment", (int)Math.Min(_chunksAt, int.MaxValue),
                "the fan-out table does not reach the end");
    }

    private static VembarException Damaged(string path, Extent extent) =>
        VembarException.Damaged($"'{path}' has a damaged index at byte {extent.Offset}", Advice.Of("heal-or-recover"));

    private static byte[] ReadWhole(IByteSource file, Extent extent, string path)
    {
        // Its checksum first: what a damaged record says of its length is not believed with memory.
        if (extent.Length > Array.MaxLength || extent.Length < HeadLength + 8 || (extent.Length > Large && !IsWhole(file, extent)))
            throw Damaged(path, extent);
        var data = new byte[extent.Length];
        if (file.Read(data, extent.Offset) < data.Length || XxHash3.HashToUInt64(data) != extent.Checksum)
            throw Damaged(path, extent);
        return data;
    }

    /// <summary>Reads what was not read yet and checks all of it.</summary>
    /// <exception cref="VembarException">It is damaged.</exception>
    public void EnsureWhole()
    {
        lock (_gate)
        {
            if (_whole is not null)
                return;
            var data = ReadWhole(_file, Extent, _path);
            InWords(_path, () =>
            {
                CheckTable(data.AsSpan(_tableAt, (int)TableLength));
                return true;
            });
            _whole = data;
            _table = null;
            Array.Clear(_pages);
        }
    }

    /// <summary>Reads the tables of blocks of several segments with one request.</summary>
    /// <exception cref="VembarException">One makes no sense.</exception>
    public static void LoadTables(IReadOnlyList<IndexSegment> segments)
    {
        var without = segments.Where(s => s._whole is null && s._table is null).ToList();
        if (without.Count == 0)
            return;
        // More memory than all but the largest archives need is given only to what has its checksum.
        if (without.Find(s => s.TableLength > 4 * Large && !IsWhole(s._file, s.Extent)) is { } damaged)
            throw Damaged(damaged._path, damaged.Extent);
        var parts = without.Select(s => new ByteRange(s.Extent.Offset + s._tableAt, new byte[s.TableLength])).ToList();
        without[0]._file.ReadMany(parts);
        foreach (var (segment, part) in without.Zip(parts))
        {
            if (!part.IsComplete)
                throw Damaged(segment._path, segment.Extent);
            InWords(segment._path, () => segment.TakeTable(part.Buffer));
        }
    }

    private bool TakeTable(ReadOnlyMemory<byte> table)
    {
        CheckTable(table.Span);
        _table = table.ToArray();
        return true;
    }

    private ReadOnlySpan<byte> Table
    {
        get
        {
            // In this order: what takes the place of the table is set before it goes.
            while (true)
            {
                if (_whole is { } whole)
                    return whole.AsSpan(_tableAt, (int)TableLength);
                if (_table is { } table)
                    return table;
                LoadTables([this]);
            }
        }
    }

    // A row of the chunks, and how many of the rows around it are there with it.
    private ReadOnlySpan<byte> Row(int number)
    {
        if (_whole is { } whole)
            return whole.AsSpan((int)_chunksAt + number * ChunkLength, ChunkLength);
        var page = number / _pageRows;
        var rows = Volatile.Read(ref _pages[page]) ?? LoadPage(page);
        return rows.AsSpan((number - page * _pageRows) * ChunkLength, ChunkLength);
    }

    private byte[] LoadPage(int page)
    {
        var first = page * _pageRows;
        var rows = new byte[Math.Min(_pageRows, ChunkCount - first) * ChunkLength];
        if (_file.Read(rows, Extent.Offset + _chunksAt + (long)first * ChunkLength) < rows.Length)
            throw Damaged(_path, Extent);
        Volatile.Write(ref _pages[page], rows);
        return rows;
    }

    /// <summary>Whether the bytes of a segment have their checksum.</summary>
    public static bool IsWhole(IByteSource file, Extent extent) => Checksum(file, extent.Offset, extent.Length) == extent.Checksum;

    // Null when the file ends before.
    private static ulong? Checksum(IByteSource file, long offset, long length)
    {
        const int Step = 1 << 18;
        var hash = new XxHash3();
        var buffer = System.Buffers.ArrayPool<byte>.Shared.Rent(Step);
        try
        {
            for (var at = 0L; at < length;)
            {
                var want = (int)Math.Min(Step, length - at);
                if (file.Read(buffer.AsSpan(0, want), offset + at) < want)
                    return null;
                hash.Append(buffer.AsSpan(0, want));
                at += want;
            }
            return hash.GetCurrentHashAsUInt64();
        }
        finally
        {
            System.Buffers.ArrayPool<byte>.Shared.Return(buffer);
        }
    }

    /// <summary>The extent of a whole segment that begins at a place, told by itself alone; null when there is none.</summary>
    public static Extent? Complete(IByteSource file, long offset)
    {
        Span<byte> head = stackalloc byte[HeadLength];
        if (file.Read(head, offset) < HeadLength || !head.StartsWith(Magic))
            return null;
        var length = BinaryPrimitives.ReadInt64LittleEndian(head[8..]);
        long earlier = BinaryPrimitives.ReadUInt32LittleEndian(head[24..]), blocks = BinaryPrimitives.ReadUInt32LittleEndian(head[16..]),
            chunks = BinaryPrimitives.ReadUInt32LittleEndian(head[20..]);
        if (HeadLength + earlier * EarlierLength + blocks * BlockLength + FanOutLength + chunks * ChunkLength + 8 != length)
            return null;
        // Its last eight bytes are the checksum of those before.
        Span<byte> own = stackalloc byte[8];
        return Checksum(file, offset, length - 8) is { } sum && file.Read(own, offset + length - 8) == 8
            && sum == BinaryPrimitives.ReadUInt64LittleEndian(own)
            ? new Extent(offset, length, Checksum(file, offset, length) ?? 0) : null;
    }

    /// <summary>The bytes that every segment begins with.</summary>
    public static ReadOnlySpan<byte> Beginning => Magic;

    public BlockInfo Block(int number) => BlockAt(Table[(number * BlockLength)..]);

    private static BlockInfo BlockAt(ReadOnlySpan<byte> b) => new(
        BinaryPrimitives.ReadInt64LittleEndian(b), BinaryPrimitives.ReadInt32LittleEndian(b[8..]),
        BinaryPrimitives.ReadInt32LittleEndian(b[12..]), BinaryPrimitives.ReadInt32LittleEndian(b[16..]),
        (BlockKind)b[20], (Codec)b[21], BinaryPrimitives.ReadUInt64LittleEndian(b[24..]));

    public (ChunkId Id, int Block, int Offset, int Length) Chunk(int number)
    {
        var row = Row(number);
        return (ChunkId.Read(row), BinaryPrimitives.ReadInt32LittleEndian(row[32..]), BinaryPrimitives.ReadInt32LittleEndian(row[36..]),
            BinaryPrimitives.ReadInt32LittleEndian(row[40..]));
    }

    public bool TryFind(ChunkId id, out ChunkPlace place)
    {
        place = default;
        var fanOut = Table[(BlockCount * BlockLength)..];
        var row = id.First;
        var low = row == 0 ? 0 : BinaryPrimitives.ReadInt32LittleEndian(fanOut[(4 * (row - 1))..]);
        var high = BinaryPrimitives.ReadInt32LittleEndian(fanOut[(4 * row)..]) - 1;
        if (_whole is null)
            Narrow(id, ref low, ref high);
        while (low <= high)
        {
            var middle = (low + high) >>> 1;
            var order = ChunkId.Read(Row(middle)).CompareTo(id);
            if (order == 0)
            {
                var (_, block, offset, length) = Chunk(middle);
                if ((uint)block >= (uint)BlockCount)
                    return false;
                var info = Block(block);
                if (offset < 0 || length < 0 || offset > info.PlainLength - length)
                    return false;
                place = new ChunkPlace(info, offset, length);
                return true;
            }
            if (order < 0)
                low = middle + 1;
            else
                high = middle - 1;
        }
        return false;
    }

    // Down to the rows of one page. Ids are hashes, so what follows the first byte tells roughly where among the rows one is: most often
    // the first page that is looked at has it, or else the one beside it.
    private void Narrow(ChunkId id, ref int low, ref int high)
    {
        var guess = low + (int)((high - low) * id.Fraction);
        for (var round = 0; low <= high; round++)
        {
            var middle = round < 2 ? guess : (low + high) >>> 1;
            var page = middle / _pageRows;
            var (first, last) = (Math.Max(low, page * _pageRows), Math.Min(high, (page + 1) * _pageRows - 1));
            if (ChunkId.Read(Row(first)) > id)
                guess = high = first - 1;
            else if (ChunkId.Read(Row(last)) < id)
                guess = low = last + 1;
            else
            {
                (low, high) = (first, last);
                return;
            }
        }
    }
}
