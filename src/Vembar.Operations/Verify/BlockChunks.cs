using Vembar.Store.Hashing;
using Vembar.Store.Index;

namespace Vembar.Operations.Verify;

/// <summary>The chunks of an index by their blocks. The numbers alone are kept: there may be millions.</summary>
internal sealed class BlockChunks
{
    private readonly IndexSegment _segment;
    private readonly int[] _starts;
    private readonly int[] _numbers;

    /// <param name="segment">The index.</param>
    /// <param name="astray">Told each block that a chunk names and the index does not have.</param>
    public BlockChunks(IndexSegment segment, Action<long> astray)
    {
        _segment = segment;
        _starts = new int[segment.BlockCount + 1];
        for (var i = 0; i < segment.ChunkCount; i++)
        {
            if (segment.Chunk(i).Block is var block && (uint)block < (uint)segment.BlockCount)
                _starts[block + 1]++;
            else
                astray(block);
        }
        for (var i = 1; i < _starts.Length; i++)
            _starts[i] += _starts[i - 1];
        _numbers = new int[_starts[^1]];
        var next = _starts.ToArray();
        for (var i = 0; i < segment.ChunkCount; i++)
        {
            if (segment.Chunk(i).Block is var block && (uint)block < (uint)segment.BlockCount)
                _numbers[next[block]++] = i;
        }
    }

    /// <summary>How many chunks a block has.</summary>
    public int CountOf(int block) => _starts[block + 1] - _starts[block];

    /// <summary>The chunks of a block, by their places in it.</summary>
    public List<(ChunkId Id, int Offset, int Length)> Of(int block)
    {
        var chunks = new List<(ChunkId Id, int Offset, int Length)>(CountOf(block));
        foreach (var number in _numbers.AsSpan(_starts[block], CountOf(block)))
        {
            var (id, _, offset, length) = _segment.Chunk(number);
            chunks.Add((id, offset, length));
        }
        chunks.Sort((a, b) => (a.Offset, a.Length).CompareTo((b.Offset, b.Length)));
        return chunks;
    }
}
