namespace Vembar.Store.Chunking;

/// <summary>Where large content may be cut: the sizes, in bytes, that a header fixes for the whole archive.</summary>
/// <param name="Smallest">No chunk is shorter, but for the last of a file.</param>
/// <param name="Average">What most chunks come near; a power of two.</param>
/// <param name="Largest">No chunk is longer.</param>
public readonly record struct ChunkSizes(int Smallest, int Average, int Largest)
{
    /// <summary>The sizes of new archives.</summary>
    public static ChunkSizes Standard { get; } = new(32 * 1024, 128 * 1024, 512 * 1024);

    /// <summary>True when the sizes make sense together (4 KiB to 64 MiB, growing, the average a power of two).</summary>
    public bool AreUsable => Smallest >= 4096 && Smallest < Average && Average < Largest && Largest <= 64 << 20 && int.IsPow2(Average);
}
