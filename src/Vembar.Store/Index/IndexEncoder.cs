using System.Buffers.Binary;
using System.IO.Hashing;
using Vembar.Store.Format;

namespace Vembar.Store.Index;

/// <summary>Makes the bytes of index segments. docs/archive-format.md, "Index segment".</summary>
internal static class IndexEncoder
{
    /// <summary>The length of a segment with so much in it, in bytes.</summary>
    public static long LengthOf(int blocks, int chunks, int earlier) =>
        IndexSegment.HeadLength + (long)earlier * IndexSegment.EarlierLength + LengthOf(blocks, chunks) + IndexSegment.FanOutLength + 8;

    /// <summary>What blocks and chunks take in an index, in bytes.</summary>
    public static long LengthOf(int blocks, int chunks) =>
        (long)blocks * IndexSegment.BlockLength + (long)chunks * IndexSegment.ChunkLength;

    /// <summary>The bytes of a new segment.</summary>
    /// <param name="blocks">Its blocks in the order of their numbers.</param>
    /// <param name="chunks">Its chunks in any order.</param>
    /// <param name="earlier">Segments needed beside it.</param>
    public static byte[] Encode(IReadOnlyList<BlockInfo> blocks, ChunkTable chunks, IReadOnlyList<Extent> earlier)
    {
        var order = chunks.Sorted();
        var length = LengthOf(blocks.Count, chunks.Count, earlier.Count);
        var data = new byte[checked((int)length)];
        IndexSegment.Beginning.CopyTo(data);
        BinaryPrimitives.WriteInt64LittleEndian(data.AsSpan(8), length);
        BinaryPrimitives.WriteInt32LittleEndian(data.AsSpan(16), blocks.Count);
        BinaryPrimitives.WriteInt32LittleEndian(data.AsSpan(20), chunks.Count);
        BinaryPrimitives.WriteInt32LittleEndian(data.AsSpan(24), earlier.Count);
        var at = IndexSegment.HeadLength;
        foreach (var segment in earlier)
        {
            BinaryPrimitives.WriteInt64LittleEndian(data.AsSpan(at), segment.Offset);
            BinaryPrimitives.WriteInt64LittleEndian(data.AsSpan(at + 8), segment.Length);
            BinaryPrimitives.WriteUInt64LittleEndian(data.AsSpan(at + 16), segment.Checksum);
            at += IndexSegment.EarlierLength;
        }
        foreach (var block in blocks)
        {
            var b = data.AsSpan(at, IndexSegment.BlockLength);
            BinaryPrimitives.WriteInt64LittleEndian(b, block.Offset);
            BinaryPrimitives.WriteInt32LittleEndian(b[8..], block.StoredLength);
            BinaryPrimitives.WriteInt32LittleEndian(b[12..], block.PlainLength);
            BinaryPrimitives.WriteInt32LittleEndian(b[16..], block.ChunkCount);
            b[20] = (byte)block.Kind;
            b[21] = (byte)block.Codec;
            BinaryPrimitives.WriteUInt64LittleEndian(b[24..], block.Checksum);
            at += IndexSegment.BlockLength;
        }
        var fanOut = data.AsSpan(at, IndexSegment.FanOutLength);
        at += IndexSegment.FanOutLength;
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
            var c = data.AsSpan(at, IndexSegment.ChunkLength);
            chunk.Id.Write(c);
            BinaryPrimitives.WriteInt32LittleEndian(c[32..], chunk.Block);
            BinaryPrimitives.WriteInt32LittleEndian(c[36..], chunk.Offset);
            BinaryPrimitives.WriteInt32LittleEndian(c[40..], chunk.Length);
            at += IndexSegment.ChunkLength;
        }
        BinaryPrimitives.WriteUInt64LittleEndian(data.AsSpan(at), XxHash3.HashToUInt64(data.AsSpan(0, at)));
        return data;
    }
}
