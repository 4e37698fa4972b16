using System.IO.Hashing;
using Vembar.Store.Format;
using Vembar.Store.Hashing;
using Vembar.Store.Index;
using Vembar.Store.Places;
using Vembar.Store.Reading;

namespace Vembar.Store.Writing;

/// <summary>
/// Makes a state of what was appended. In this order, each durable before the next: the index with the second copies of the record
/// blocks; the first copy of the commit record; the second. docs/archive-format.md, "Structure".
/// </summary>
/// <param name="file">The archive.</param>
/// <param name="header">Its header.</param>
/// <param name="end">Where the appended blocks end.</param>
/// <param name="clock">Where the state's time comes from.</param>
internal sealed class StateWriter(IByteStore file, ArchiveHeader header, long end, TimeProvider clock)
{
    // No segment has more, so that none is too long to be had in memory as one; what a state adds may go into several.
    private const int MostChunks = 32 << 20;

    /// <summary>Writes a whole state.</summary>
    public void Write(
        List<BlockInfo> blocks, ChunkTable chunks, IReadOnlyList<Extent> earlier, IReadOnlyList<(BlockInfo Info, byte[] Bytes)> records,
        ChunkId catalogue, CommitRecord? previous) =>
        Conclude(Prepare(blocks, chunks, earlier, records, catalogue, previous));

    /// <summary>Writes all but the commit record and makes it durable.</summary>
    /// <param name="blocks">The blocks that the index is to list.</param>
    /// <param name="chunks">The chunks in them.</param>
    /// <param name="earlier">Segments that are needed beside it, oldest first.</param>
    /// <param name="records">The record blocks of this state, as they stand in the file.</param>
    /// <param name="catalogue">The catalogue's chunk.</param>
    /// <param name="previous">The state before.</param>
    /// <returns>The record to conclude with.</returns>
    public CommitRecord Prepare(
        List<BlockInfo> blocks, ChunkTable chunks, IReadOnlyList<Extent> earlier, IReadOnlyList<(BlockInfo Info, byte[] Bytes)> records,
        ChunkId catalogue, CommitRecord? previous)
    {
        var at = end;
        var parts = new List<Extent>(earlier);
        while (chunks.Count > MostChunks)
        {
            var (partBlocks, part) = Split(ref blocks, ref chunks);
            var bytes = IndexEncoder.Encode(partBlocks, part, parts);
            parts.Add(new Extent(at, bytes.Length, XxHash3.HashToUInt64(bytes)));
            file.Write(bytes, at);
            at += bytes.Length;
        }
        return header.IsFirstFormat ? PrepareSingle(at, blocks, chunks, parts, catalogue, previous)
            : PrepareDouble(at, blocks, chunks, parts, records, catalogue, previous);
    }

    /// <summary>Writes the commit record, one copy after the other.</summary>
    public void Conclude(CommitRecord record)
    {
        foreach (var place in ((long[])[record.First, record.Second]).Distinct())
        {
            file.Write(record.Encode(place), place);
            file.Sync();
        }
    }

    private CommitRecord PrepareSingle(long at, List<BlockInfo> blocks, ChunkTable chunks, IReadOnlyList<Extent> earlier,
        ChunkId catalogue, CommitRecord? previous)
    {
        var index = IndexEncoder.Encode(blocks, chunks, earlier);
        var record = CommitRecord.Align(header, at + index.Length);
        file.Write(index, at);
        file.Write(new byte[record - at - index.Length], at + index.Length);
        file.Sync();
        return Record(record, record, new Extent(at, index.Length, XxHash3.HashToUInt64(index)), catalogue, previous);
    }

    private CommitRecord PrepareDouble(
        long at, List<BlockInfo> blocks, ChunkTable chunks, IReadOnlyList<Extent> earlier,
        IReadOnlyList<(BlockInfo Info, byte[] Bytes)> records, ChunkId catalogue, CommitRecord? previous)
    {
        var first = CommitRecord.Align(header, at);
        var indexAt = first + CommitRecord.Length;
        var indexEnd = indexAt + IndexEncoder.LengthOf(blocks.Count + records.Count, chunks.Count, earlier.Count);
        var copyAt = StateFinder.SecondPartAt(first, indexEnd);
        var all = new List<BlockInfo>(blocks);
        var copyEnd = copyAt;
        foreach (var (info, _) in records)
        {
            all.Add(info with { Offset = copyEnd });
            copyEnd += info.WholeLength;
        }
        var index = IndexEncoder.Encode(all, chunks, earlier);
        var second = CommitRecord.Align(header, copyEnd);
        // The place of the first record is left zero; so is what fills up.
        file.Write(new byte[indexAt - at], at);
        file.Write(index, indexAt);
        var behind = new byte[second - indexEnd];
        var offset = (int)(copyAt - indexEnd);
        foreach (var (_, bytes) in records)
        {
            bytes.CopyTo(behind, offset);
            offset += bytes.Length;
        }
        file.Write(behind, indexEnd);
        file.Sync();
        return Record(first, second, new Extent(indexAt, index.Length, XxHash3.HashToUInt64(index)), catalogue, previous);
    }

    private CommitRecord Record(long first, long second, Extent index, ChunkId catalogue, CommitRecord? previous) =>
        new(header.Id, (previous?.Sequence ?? -1) + 1, first, second, index, previous?.Second ?? 0, previous?.First ?? 0, catalogue,
        clock.GetUtcNow().UtcDateTime);

    // The first half of the blocks with their chunks; what is left stays.
    private static (List<BlockInfo> Blocks, ChunkTable Chunks) Split(ref List<BlockInfo> blocks, ref ChunkTable chunks)
    {
        var half = Math.Max(1, blocks.Count / 2);
        var (lower, upper) = (new ChunkTable(), new ChunkTable());
        for (var i = 0; i < chunks.Count; i++)
        {
            var row = chunks[i];
            if (row.Block < half)
                lower.Set(row.Id, row.Block, row.Offset, row.Length);
            else
                upper.Set(row.Id, row.Block - half, row.Offset, row.Length);
        }
        var first = blocks[..half];
        blocks = blocks[half..];
        chunks = upper;
        return (first, lower);
    }
}
