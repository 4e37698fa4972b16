using System.Runtime.CompilerServices;

namespace Vembar.Core.Content;

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

/// <summary>
/// Cuts content by what it holds, so that an insertion moves no other boundary: a gear hash with two masks, a stricter
/// one before the average size and a looser one after it.
/// </summary>
/// <remarks>Source: "FastCDC: a Fast and Efficient Content-Defined Chunking Approach for Data Deduplication" (Xia et al., USENIX ATC 2016), sections 3.2 to 3.5.</remarks>
public sealed unsafe class Chunker
{
    // One random 64-bit number a byte value, made by SplitMix64 from a fixed seed: the archive's boundaries depend on them.
    private static readonly ulong[] s_gear = MakeGear();

    private readonly ChunkSizes _sizes;
    private readonly ulong _strict;
    private readonly ulong _loose;

    /// <summary>A cutter for the given sizes.</summary>
    public Chunker(ChunkSizes sizes)
    {
        if (!sizes.AreUsable)
            throw new ArgumentOutOfRangeException(nameof(sizes));
        _sizes = sizes;
        var bits = int.Log2(sizes.Average);
        // The hash shifts left, so its high bits have seen the most bytes.
        _strict = ulong.MaxValue << (64 - (bits + 2));
        _loose = ulong.MaxValue << (64 - (bits - 2));
    }

    /// <summary>The largest chunk.</summary>
    public int Largest => _sizes.Largest;

    /// <summary>The length of the next chunk.</summary>
    /// <param name="data">What follows; must hold <see cref="Largest"/> bytes or all that is left of the content.</param>
    /// <returns>At least 1, at most the data's length.</returns>
    public int Next(ReadOnlySpan<byte> data)
    {
        if (data.Length <= _sizes.Smallest)
            return data.Length;
        var end = Math.Min(data.Length, _sizes.Largest);
        var middle = Math.Min(end, _sizes.Average);
        fixed (byte* bytes = data)
        fixed (ulong* gear = s_gear)
        {
            ulong hash = 0;
            var cut = Scan(bytes, gear, _sizes.Smallest, middle, _strict, ref hash);
            if (cut < 0)
                cut = Scan(bytes, gear, middle, end, _loose, ref hash);
            return cut < 0 ? end : cut;
        }
    }

    // Where the hash first has no bit of the mask set, as the length up to there; -1 when nowhere. Written out for eight bytes,
    // without checks of bounds, it is three times as fast as the plain loop.
    private static int Scan(byte* bytes, ulong* gear, int from, int to, ulong mask, ref ulong hash)
    {
        // The mask is the high bits: none of them is set when the number is at most all the others.
        var most = ~mask;
        var h = hash;
        var i = from;
        for (; i + 8 <= to; i += 8)
        {
            var next = bytes + i;
            h = h + h + gear[next[0]];
            if (h <= most)
                return i + 1;
            h = h + h + gear[next[1]];
            if (h <= most)
                return i + 2;
            h = h + h + gear[next[2]];
            if (h <= most)
                return i + 3;
            h = h + h + gear[next[3]];
            if (h <= most)
                return i + 4;
            h = h + h + gear[next[4]];
            if (h <= most)
                return i + 5;
            h = h + h + gear[next[5]];
            if (h <= most)
                return i + 6;
            h = h + h + gear[next[6]];
            if (h <= most)
                return i + 7;
            h = h + h + gear[next[7]];
            if (h <= most)
                return i + 8;
        }
        for (; i < to; i++)
        {
            h = h + h + gear[bytes[i]];
            if (h <= most)
                return i + 1;
        }
        hash = h;
        return -1;
    }

    private static ulong[] MakeGear()
    {
        var gear = new ulong[256];
        ulong state = 0x56454D4241523031;
        for (var i = 0; i < gear.Length; i++)
        {
            state += 0x9E3779B97F4A7C15;
            var z = state;
            z = (z ^ (z >> 30)) * 0xBF58476D1CE4E5B9;
            z = (z ^ (z >> 27)) * 0x94D049BB133111EB;
            gear[i] = z ^ (z >> 31);
        }
        return gear;
    }
}
