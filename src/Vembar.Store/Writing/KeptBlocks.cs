using Vembar.Store.Format;
using Vembar.Store.Hashing;
using Vembar.Store.Places;
using Vembar.Store.Reading;

namespace Vembar.Store.Writing;

/// <summary>Blocks that an earlier run made for a place and could not publish there: they need not be made again.</summary>
internal sealed class KeptBlocks
{
    private readonly IByteSource _file;
    private readonly List<(BlockInfo Info, (ChunkId Id, int Length)[] Chunks)> _blocks = [];
    private readonly Dictionary<ChunkId, int> _chunks = [];

    /// <summary>Looks for them; each is checked.</summary>
    /// <param name="file">What the earlier run wrote.</param>
    public KeptBlocks(IByteSource file)
    {
        _file = file;
        BlockScan.Run(file, 0, file.Length, (block, lengths, plain) =>
        {
            if (block.Kind == BlockKind.Record)
                return;
            var chunks = new (ChunkId, int)[lengths.Length];
            var offset = 0;
            for (var i = 0; i < lengths.Length; i++)
            {
                chunks[i] = (Blake3.Hash(plain.Span.Slice(offset, lengths[i])), lengths[i]);
                _chunks.TryAdd(chunks[i].Item1, _blocks.Count);
                offset += lengths[i];
            }
            _blocks.Add((block, chunks));
        });
    }

    /// <summary>The block that a chunk is in, with its bytes as they stand; null when there is none.</summary>
    public (BlockInfo Info, byte[] Bytes, IReadOnlyList<(ChunkId Id, int Length)> Chunks)? Find(ChunkId id)
    {
        if (!_chunks.TryGetValue(id, out var at))
            return null;
        var (info, chunks) = _blocks[at];
        var bytes = new byte[info.WholeLength];
        return _file.Read(bytes, info.Offset) == bytes.Length ? (info, bytes, chunks) : null;
    }
}
