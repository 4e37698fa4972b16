using System.Buffers;
using Vembar.Store.Format;
using Vembar.Store.Hashing;

namespace Vembar.Store.Writing;

/// <summary>A block ready to be appended: its bytes as they stand in the file, and what the index has to know.</summary>
public sealed class PackedBlock : IDisposable
{
    private byte[]? _bytes;

    internal PackedBlock(byte[] bytes, BlockInfo info, IReadOnlyList<ChunkId> ids, IReadOnlyList<int> lengths)
    {
        _bytes = bytes;
        Info = info;
        Ids = ids;
        Lengths = lengths;
    }

    internal BlockInfo Info { get; }
    internal IReadOnlyList<ChunkId> Ids { get; }
    internal IReadOnlyList<int> Lengths { get; }
    internal ReadOnlySpan<byte> Bytes => _bytes.AsSpan(0, (int)Info.WholeLength);

    /// <summary>Gives the bytes back to the pool.</summary>
    public void Dispose()
    {
        if (_bytes is not null)
            ArrayPool<byte>.Shared.Return(_bytes);
        _bytes = null;
    }
}
