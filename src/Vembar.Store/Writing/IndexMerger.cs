using Vembar.Store.Format;
using Vembar.Store.Index;
using Vembar.Store.Reading;

namespace Vembar.Store.Writing;

/// <summary>Decides what goes into a new index segment beside what a change adds.</summary>
internal static class IndexMerger
{
    // So many blocks and chunks that a merged segment can still be had in memory as one.
    private const int Most = 16 << 20;

    /// <summary>
    /// Segments that hold not much more than what came after them go into the new one, so that of n changes each is written again some
    /// log n times, and a look-up asks some log n segments. Not much more: of changes that add as many chunks as the one before, each has
    /// a few blocks more or less.
    /// </summary>
    /// <param name="archive">The state that is added to.</param>
    /// <param name="added">The blocks that the change adds.</param>
    /// <param name="chunks">The chunks in them.</param>
    /// <returns>Blocks and chunks of the new segment, and the segments that are needed beside it, oldest first.</returns>
    public static (List<BlockInfo> Blocks, ChunkTable Chunks, List<Extent> Earlier) Merge(ArchiveReader archive, List<BlockInfo> added,
        ChunkTable chunks)
    {
        long weight = added.Count + chunks.Count;
        var merged = new Stack<IndexSegment>();
        var earlier = new List<Extent>();
        foreach (var segment in archive.Segments)
        {
            long own = segment.BlockCount + segment.ChunkCount;
            if (archive.IsIndexRebuilt || (earlier.Count == 0 && own <= weight + weight / 2 && own + weight <= Most))
            {
                merged.Push(segment);
                weight += own;
            }
            else
                earlier.Insert(0, segment.Extent);
        }
        if (merged.Count == 0)
            return (added, chunks, earlier);
        var allBlocks = new List<BlockInfo>();
        var allChunks = new ChunkTable();
        foreach (var segment in merged)
        {
            var first = allBlocks.Count;
            for (var i = 0; i < segment.BlockCount; i++)
                allBlocks.Add(segment.Block(i));
            // A chunk that was stored again is where it was stored last.
            for (var i = 0; i < segment.ChunkCount; i++)
            {
                var (id, block, offset, length) = segment.Chunk(i);
                allChunks.Set(id, first + block, offset, length);
            }
        }
        var ownFirst = allBlocks.Count;
        allBlocks.AddRange(added);
        for (var i = 0; i < chunks.Count; i++)
            allChunks.Set(chunks[i].Id, ownFirst + chunks[i].Block, chunks[i].Offset, chunks[i].Length);
        return (allBlocks, allChunks, earlier);
    }
}
