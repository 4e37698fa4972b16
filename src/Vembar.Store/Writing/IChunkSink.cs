using Vembar.Common;
using Vembar.Store.Chunking;
using Vembar.Store.Format;
using Vembar.Store.Hashing;

namespace Vembar.Store.Writing;

/// <summary>Takes chunks that are to be stored; each is stored once. One thread at a time.</summary>
public interface IChunkSink
{
    /// <summary>Where content is cut that is to be found again.</summary>
    ChunkSizes Sizes { get; }

    /// <summary>Whether payloads of blocks are veiled, so that none holds what a block begins with.</summary>
    bool IsVeiled { get; }

    /// <summary>Says that the caller will store a chunk.</summary>
    /// <returns>False when it is stored already or someone else said so.</returns>
    bool TryClaim(ChunkId id);

    /// <summary>Stores a chunk, unless it is there.</summary>
    /// <param name="kind">What it is: tree or record; content too, where it is not worth a pipeline.</param>
    /// <param name="bytes">Its plain bytes.</param>
    /// <returns>Its id.</returns>
    /// <exception cref="VembarException">It is too long, or cannot be written.</exception>
    ChunkId Add(BlockKind kind, ReadOnlySpan<byte> bytes);

    /// <summary>Stores a block whose chunks were claimed.</summary>
    /// <exception cref="VembarException">It cannot be written.</exception>
    void Append(PackedBlock block);
}
