using System.Runtime.CompilerServices;
using System.Runtime.Intrinsics;

namespace Vembar.Store.Chunking;

/// <summary>
/// Cuts content by what it holds, so that an insertion moves no other boundary: where a hash of the last sixteen bytes is near its
/// greatest value, with a stricter rule before the average size and a looser one after it.
/// </summary>
/// <remarks>
/// Smallest size skipped, two rules, and a largest size: "FastCDC: a Fast and Efficient Content-Defined Chunking Approach for Data
/// Deduplication" (Xia et al., USENIX ATC 2016), sections 3.2 to 3.5. The hash is our own instead of a rolling one: it needs
/// nothing of the position before, so that many positions are looked at at once.
/// </remarks>
public sealed unsafe class Chunker
{
    // Two odd numbers without a pattern: the boundaries of all archives depend on them.
    private const uint First = 0x9E3779B1, Second = 0x85EBCA77;

    // Positions looked at before the next question whether one of them is a boundary.
    private const int Stride = 32;

    private readonly ChunkSizes _sizes;
    private readonly uint _strict;
    private readonly uint _loose;

    /// <summary>A cutter for the given sizes.</summary>
    public Chunker(ChunkSizes sizes)
    {
        if (!sizes.AreUsable)
            throw new ArgumentOutOfRangeException(nameof(sizes));
        _sizes = sizes;
        var bits = int.Log2(sizes.Average);
        // The high bits of a product depend on all bits of its factors.
        _strict = uint.MaxValue << (32 - (bits + 2));
        _loose = uint.MaxValue << (32 - (bits - 2));
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
        {
            var cut = Scan(bytes, _sizes.Smallest, middle, _strict);
            if (cut < 0)
                cut = Scan(bytes, middle, end, _loose);
            return cut < 0 ? end : cut;
        }
    }

    // Behind which byte the hash is first at least so great, as the length up to there; -1 when nowhere. There are sixteen bytes
    // before the first.
    private static int Scan(byte* bytes, int from, int to, uint least)
    {
        var i = from;
        for (; i + Stride <= to; i += Stride)
        {
            // Eight positions four bytes apart lie beside each other as they stand in memory.
            var at = bytes + i - 15;
            var max = Vector256.Max(Vector256.Max(Hash(at), Hash(at + 1)), Vector256.Max(Hash(at + 2), Hash(at + 3)));
            if (Vector256.GreaterThanOrEqualAny(max, Vector256.Create(least)))
                break;
        }
        for (; i < to; i++)
        {
            var at = bytes + i - 15;
            if (Hash(Word(at), Word(at + 4), Word(at + 8), Word(at + 12)) >= least)
                return i + 1;
        }
        return -1;
    }

    private static uint Word(byte* at) => Unsafe.ReadUnaligned<uint>(at);

    private static uint Hash(uint a, uint b, uint c, uint d) => (d + (b << 9)) * First + (c + (a << 11)) * Second;

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    private static Vector256<uint> Hash(byte* at)
    {
        var a = Vector256.Load((uint*)at);
        var b = Vector256.Load((uint*)(at + 4));
        var c = Vector256.Load((uint*)(at + 8));
        var d = Vector256.Load((uint*)(at + 12));
        return (d + (b << 9)) * First + (c + (a << 11)) * Second;
    }
}
