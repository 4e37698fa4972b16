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
/// table by their first byte. docs/archive-format.md, "Index segment".
/// </summary>
internal sealed class IndexSegment
{
    private const int HeadLength = 32, SegmentLength = 24, BlockLength = 32, ChunkLength = 44, FanOutLength = 256 * 4;
    private const long Large = 16 << 20;
    private static ReadOnlySpan<byte> Magic => "VIDX"u8;

    private readonly byte[] _data;
    private readonly int _blocksAt;
    private readonly int _fanOutAt;
    private readonly int _chunksAt;

    public int BlockCount { get; }
    public int ChunkCount { get; }
    public Extent Extent { get; }

    /// <summary>The segments that are needed beside this one, oldest first.</summary>
    public IReadOnlyList<Extent> Earlier { get; }

    private IndexSegment(byte[] data, Extent extent, long limit)
    {
        _data = data;
        Extent = extent;
        var reader = new BinaryFormatReader(data.AsSpan(0, data.Length - 8), "index segment");
        if (!reader.Bytes(4).SequenceEqual(Magic))
            throw reader.Error("it does not begin as one");
        reader.UInt32();
        if (reader.UInt64() != (ulong)data.Length)
            throw reader.Error("its length is not what it says");
        var blocks = reader.UInt32();
        var chunks = reader.UInt32();
        var earlier = reader.UInt32();
        reader.UInt32();
        if (HeadLength + (long)earlier * SegmentLength + (long)blocks * BlockLength + FanOutLength + (long)chunks * ChunkLength + 8
            != data.Length)
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
        _blocksAt = reader.Position;
        for (var i = 0; i < BlockCount; i++)
        {
            var block = Block(i);
            if (block.Offset < ArchiveHeader.FixedLength || !block.IsSensible || block.Offset > limit - block.WholeLength)
                throw reader.Error($"block {i} makes no sense");
        }
        _fanOutAt = _blocksAt + BlockCount * BlockLength;
        _chunksAt = _fanOutAt + FanOutLength;
        var before = 0;
        for (var i = 0; i < 256; i++)
        {
            var to = BinaryPrimitives.ReadInt32LittleEndian(_data.AsSpan(_fanOutAt + 4 * i));
            if (to < before || to > ChunkCount)
                throw reader.Error("the fan-out table is not in order");
            before = to;
        }
        if (before != ChunkCount)
            throw reader.Error("the fan-out table does not reach the end");
    }

    /// <summary>Reads a segment.</summary>
    /// <param name="file">The archive's file.</param>
    /// <param name="extent">Where it is.</param>
    /// <param name="path">The archive's path, for messages.</param>
    /// <param name="limit">Where the last block may end at most, in the file.</param>
    /// <exception cref="VembarException">It is damaged.</exception>
    public static IndexSegment Read(IArchiveFile file, Extent extent, string path, long limit)
    {
        VembarException Damaged() => VembarException.Damaged(
            $"'{path}' has a damaged index at byte {extent.Offset}",
            Advice.Of("heal-or-recover"));
        // Its checksum first: what a damaged record says of its length is not believed with memory.
        if (extent.Length > Array.MaxLength || extent.Length < HeadLength + 8 || (extent.Length > Large && !IsWhole(file, extent)))
            throw Damaged();
        var data = new byte[extent.Length];
        if (file.Read(data, extent.Offset) < data.Length || XxHash3.HashToUInt64(data) != extent.Checksum)
            throw Damaged();
        return Parse(data, extent, path, limit);
    }

    /// <summary>Whether the bytes of a segment have their checksum.</summary>
    public static bool IsWhole(IArchiveFile file, Extent extent) => Checksum(file, extent.Offset, extent.Length) == extent.Checksum;

    // Null when the file ends before.
    private static ulong? Checksum(IArchiveFile file, long offset, long length)
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

    /// <summary>A segment from its bytes.</summary>
    /// <exception cref="VembarException">They make no sense.</exception>
    public static IndexSegment Parse(byte[] data, Extent extent, string path, long limit)
    {
        try
        {
            return new IndexSegment(data, extent, limit);
        }
        catch (BinaryFormatException problem)
        {
            throw VembarException.Damaged($"'{path}': {problem.Message}");
        }
    }

    /// <summary>The extent of a whole segment that begins at a place, told by itself alone; null when there is none.</summary>
    public static Extent? Complete(IArchiveFile file, long offset)
    {
        Span<byte> head = stackalloc byte[HeadLength];
        if (file.Read(head, offset) < HeadLength || !head.StartsWith(Magic))
            return null;
        var length = BinaryPrimitives.ReadInt64LittleEndian(head[8..]);
        long earlier = BinaryPrimitives.ReadUInt32LittleEndian(head[24..]), blocks = BinaryPrimitives.ReadUInt32LittleEndian(head[16..]),
            chunks = BinaryPrimitives.ReadUInt32LittleEndian(head[20..]);
        if (HeadLength + earlier * SegmentLength + blocks * BlockLength + FanOutLength + chunks * ChunkLength + 8 != length)
            return null;
        // Its last eight bytes are the checksum of those before.
        Span<byte> own = stackalloc byte[8];
        return Checksum(file, offset, length - 8) is { } sum && file.Read(own, offset + length - 8) == 8
            && sum == BinaryPrimitives.ReadUInt64LittleEndian(own)
            ? new Extent(offset, length, Checksum(file, offset, length) ?? 0) : null;
    }

    /// <summary>The bytes that every segment begins with.</summary>
    public static ReadOnlySpan<byte> Beginning => Magic;

    public BlockInfo Block(int number)
    {
        var b = _data.AsSpan(_blocksAt + number * BlockLength, BlockLength);
        return new BlockInfo(
            BinaryPrimitives.ReadInt64LittleEndian(b), BinaryPrimitives.ReadInt32LittleEndian(b[8..]),
            BinaryPrimitives.ReadInt32LittleEndian(b[12..]),
            BinaryPrimitives.ReadInt32LittleEndian(b[16..]), (BlockKind)b[20], (Codec)b[21],
            BinaryPrimitives.ReadUInt64LittleEndian(b[24..]));
    }

    public (ChunkId Id, int Block, int Offset, int Length) Chunk(int number)
    {
        var c = _data.AsSpan(_chunksAt + number * ChunkLength, ChunkLength);
        return (ChunkId.Read(c), BinaryPrimitives.ReadInt32LittleEndian(c[32..]), BinaryPrimitives.ReadInt32LittleEndian(c[36..]),
            BinaryPrimitives.ReadInt32LittleEndian(c[40..]));
    }

    public bool TryFind(ChunkId id, out ChunkPlace place)
    {
        place = default;
        var row = id.First;
        var low = row == 0 ? 0 : BinaryPrimitives.ReadInt32LittleEndian(_data.AsSpan(_fanOutAt + 4 * (row - 1)));
        var high = BinaryPrimitives.ReadInt32LittleEndian(_data.AsSpan(_fanOutAt + 4 * row)) - 1;
        while (low <= high)
        {
            var middle = (low + high) >>> 1;
            var at = _data.AsSpan(_chunksAt + middle * ChunkLength, ChunkLength);
            var order = ChunkId.Read(at).CompareTo(id);
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

    /// <summary>The length of a segment with so much in it, in bytes.</summary>
    public static long LengthOf(int blocks, int chunks, int earlier) =>
        HeadLength + (long)earlier * SegmentLength + LengthOf(blocks, chunks) + FanOutLength + 8;

    /// <summary>What blocks and chunks take in an index, in bytes.</summary>
    public static long LengthOf(int blocks, int chunks) => (long)blocks * BlockLength + (long)chunks * ChunkLength;

    /// <summary>The bytes of a new segment.</summary>
    /// <param name="blocks">Its blocks in the order of their numbers.</param>
    /// <param name="chunks">Its chunks in any order.</param>
    /// <param name="earlier">Segments needed beside it.</param>
    public static byte[] Encode(IReadOnlyList<BlockInfo> blocks, ChunkTable chunks, IReadOnlyList<Extent> earlier)
    {
        var order = chunks.Sorted();
        var length = LengthOf(blocks.Count, chunks.Count, earlier.Count);
        var data = new byte[checked((int)length)];
        Magic.CopyTo(data);
        BinaryPrimitives.WriteInt64LittleEndian(data.AsSpan(8), length);
        BinaryPrimitives.WriteInt32LittleEndian(data.AsSpan(16), blocks.Count);
        BinaryPrimitives.WriteInt32LittleEndian(data.AsSpan(20), chunks.Count);
        BinaryPrimitives.WriteInt32LittleEndian(data.AsSpan(24), earlier.Count);
        var at = HeadLength;
        foreach (var segment in earlier)
        {
            BinaryPrimitives.WriteInt64LittleEndian(data.AsSpan(at), segment.Offset);
            BinaryPrimitives.WriteInt64LittleEndian(data.AsSpan(at + 8), segment.Length);
            BinaryPrimitives.WriteUInt64LittleEndian(data.AsSpan(at + 16), segment.Checksum);
            at += SegmentLength;
        }
        foreach (var block in blocks)
        {
            var b = data.AsSpan(at, BlockLength);
            BinaryPrimitives.WriteInt64LittleEndian(b, block.Offset);
            BinaryPrimitives.WriteInt32LittleEndian(b[8..], block.StoredLength);
            BinaryPrimitives.WriteInt32LittleEndian(b[12..], block.PlainLength);
            BinaryPrimitives.WriteInt32LittleEndian(b[16..], block.ChunkCount);
            b[20] = (byte)block.Kind;
            b[21] = (byte)block.Codec;
            BinaryPrimitives.WriteUInt64LittleEndian(b[24..], block.Checksum);
            at += BlockLength;
        }
        var fanOut = data.AsSpan(at, FanOutLength);
        at += FanOutLength;
        var next = 0;
        for (var row = 0; row < 256; row++)
        {
            while (next < order.Length && chunks[order[next]].Id.First <= row)
                next++;
            BinaryPrimitives.WriteInt32LittleEndian(fanOut[(4 * row)..], next);
        }
        foreach (var number in order)
        {
            ref readonly var chunk = ref chunks[number];
            var c = data.AsSpan(at, ChunkLength);
            chunk.Id.Write(c);
            BinaryPrimitives.WriteInt32LittleEndian(c[32..], chunk.Block);
            BinaryPrimitives.WriteInt32LittleEndian(c[36..], chunk.Offset);
            BinaryPrimitives.WriteInt32LittleEndian(c[40..], chunk.Length);
            at += ChunkLength;
        }
        BinaryPrimitives.WriteUInt64LittleEndian(data.AsSpan(at), XxHash3.HashToUInt64(data.AsSpan(0, at)));
        return data;
    }
}
