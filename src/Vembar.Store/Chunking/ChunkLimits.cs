namespace Vembar.Store.Chunking;

/// <summary>What a chunk may be, for those who write one and those who read one.</summary>
public static class ChunkLimits
{
    /// <summary>Bytes of a list of parts, and of anything else that is one chunk of a tree.</summary>
    public const int Longest = 256 << 20;
}
