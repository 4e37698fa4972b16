using System.Buffers;
using System.IO.Hashing;
using Vembar.Native;
using Vembar.Store.Compression;
using Vembar.Store.Format;
using Vembar.Store.Hashing;

namespace Vembar.Store.Writing;

/// <summary>Collects chunks until a block is full, then packs them.</summary>
public sealed class BlockBuilder : IDisposable
{
    private readonly BlockKind _kind;
    private readonly int _full;
    private readonly List<ChunkId> _ids = [];
    private readonly List<int> _lengths = [];
    private byte[]? _plain;
    private int _used;

    /// <summary>An empty block.</summary>
    /// <param name="kind">What it will hold.</param>
    public BlockBuilder(BlockKind kind)
    {
        _kind = kind;
        _full = kind == BlockKind.Content ? BlockSizes.Content : BlockSizes.Tree;
        _plain = ArrayPool<byte>.Shared.Rent(_full);
    }

    /// <summary>True when nothing was added.</summary>
    public bool IsEmpty => _ids.Count == 0;

    /// <summary>True when a chunk of this length does not go in any more. A chunk longer than a block gets one of its own.</summary>
    public bool IsFullFor(int length) => !IsEmpty && _used + length > _full;

    /// <summary>Adds a chunk.</summary>
    public void Add(ChunkId id, ReadOnlySpan<byte> bytes)
    {
        if (_used + bytes.Length > _plain!.Length)
        {
            var larger = ArrayPool<byte>.Shared.Rent(_used + bytes.Length);
            _plain.AsSpan(0, _used).CopyTo(larger);
            ArrayPool<byte>.Shared.Return(_plain);
            _plain = larger;
        }
        bytes.CopyTo(_plain.AsSpan(_used));
        _used += bytes.Length;
        _ids.Add(id);
        _lengths.Add(bytes.Length);
    }

    /// <summary>Compresses what was collected, or stores it where compression gains less than two hundredths.</summary>
    /// <param name="effort">How hard.</param>
    /// <param name="zstd">The calling thread's compressor.</param>
    /// <param name="veil">Whether what could pass for a structure of the archive is veiled; not in format 1.</param>
    public PackedBlock Pack(Effort effort, Zstd zstd, bool veil)
    {
        var head = BlockInfo.HeaderLength + 4 * _ids.Count;
        var plain = _plain.AsSpan(0, _used);
        var bytes = ArrayPool<byte>.Shared.Rent(head + Math.Max(Zstd.Bound(_used), _used) + Veil.KeyLength);
        var stored = zstd.Compress(plain, bytes.AsSpan(head), Level(effort));
        var codec = Codec.Zstd;
        if (stored > _used * 0.98)
        {
            codec = Codec.Stored;
            stored = _used;
            plain.CopyTo(bytes.AsSpan(head));
        }
        if (veil && Veil.IsNeeded(bytes.AsSpan(head, stored)))
        {
            stored += Veil.KeyLength;
            Veil.Lay(bytes.AsSpan(head, stored));
            codec = (Codec)((int)codec | Veil.Flag);
        }
        var info = new BlockInfo(0, stored, _used, _ids.Count, _kind, codec, XxHash3.HashToUInt64(bytes.AsSpan(head, stored)));
        info.EncodeHeader(bytes, System.Runtime.InteropServices.CollectionsMarshal.AsSpan(_lengths));
        return new PackedBlock(bytes, info, _ids, _lengths);
    }

    // Measured, each on two cores at once, on blocks of files in the order of a capture. Quick: matches from half of the block and
    // longer steps are a tenth faster than level 1 as it is, at the same size. Balanced: half the places tried, in half of the block,
    // is a tenth faster for 0.9 %; matches from all of it gain 0.1 % and cost a twelfth of the time of reading. Dense: level 18
    // gives what 19 gives (0.1 %), and with tables that the processor's nearest caches hold it takes half the time for 1.5 %.
    private ZstdSettings Level(Effort effort) => (effort, _kind) switch
    {
        (Effort.Dense, _) => new ZstdSettings(18, HashLog: 18, ChainLog: 18),
        (Effort.Quick, BlockKind.Content) => new ZstdSettings(1, WindowLog: 21, Step: 2),
        (_, BlockKind.Content) => new ZstdSettings(5, WindowLog: 21, SearchLog: 2),
        _ => new ZstdSettings(6),
    };

    /// <inheritdoc/>
    public void Dispose()
    {
        if (_plain is not null)
            ArrayPool<byte>.Shared.Return(_plain);
        _plain = null;
    }
}
