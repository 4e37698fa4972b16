using Vembar.Store.Hashing;

namespace Vembar.Images.Nodes;

/// <summary>A piece of a file's content: a chunk, or a hole that reads as zeros.</summary>
/// <param name="Id">The chunk; none for a hole.</param>
/// <param name="Length">Its length in bytes.</param>
public readonly record struct ContentPart(ChunkId Id, long Length)
{
    /// <summary>True for a hole.</summary>
    public bool IsHole => Id.IsNone;
}
