using Vembar.Common;
using Vembar.Store.Hashing;

namespace Vembar.Store.Reading;

/// <summary>Gives chunks by their ids.</summary>
public interface IChunkSource
{
    /// <summary>Whether there is a chunk.</summary>
    /// <exception cref="VembarException">That cannot be told.</exception>
    bool Contains(ChunkId id);

    /// <summary>A chunk's plain bytes, checked.</summary>
    /// <exception cref="VembarException">It is not there or damaged.</exception>
    ReadOnlyMemory<byte> Read(ChunkId id);

    /// <summary>Hands a chunk's plain bytes, checked, to an action; they may not be used after it.</summary>
    /// <exception cref="VembarException">It is not there or damaged.</exception>
    void Use(ChunkId id, ChunkAction action) => action(Read(id).Span);
}
