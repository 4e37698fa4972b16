using System.IO.Hashing;
using Vembar.Core.Archives;
using Vembar.Core.Compaction;
using Vembar.Core.Content;

namespace Vembar.Core.Trees;

/// <summary>Gives chunks by their ids.</summary>
public interface IChunkSource
{
    /// <summary>A chunk's plain bytes, checked.</summary>
    /// <exception cref="VembarException">It is not there or damaged.</exception>
    ReadOnlyMemory<byte> Read(ChunkId id);

    /// <summary>Hands a chunk's plain bytes, checked, to an action; they may not be used after it.</summary>
    /// <exception cref="VembarException">It is not there or damaged.</exception>
    void Use(ChunkId id, ChunkAction action) => action(Read(id).Span);
}
