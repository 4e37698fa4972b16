using System.Buffers.Binary;
using System.Runtime.CompilerServices;
using System.Runtime.InteropServices;

namespace Vembar.Core.Compaction;

/// <summary>Expands units that were compressed by XPRESS with Huffman codes. One at a time; keep one for each thread.</summary>
/// <remarks>Source: MS-XCA 2.2, "LZ77+Huffman decompression".</remarks>
internal sealed class XpressDecoder
{
    private const int Symbols = 512, TableLength = Symbols / 2, FirstBits = 11, ShortestMatch = 3, Literals = 256;

    private readonly HuffmanTable _codes = new(Symbols, FirstBits);
    private readonly byte[] _lengths = new byte[Symbols];

    /// <summary>Expands a unit.</summary>
    /// <param name="from">The compressed bytes.</param>
    /// <param name="to">What they expand to: as long as the unit is.</param>
    /// <returns>False when they make no sense.</returns>
    public bool TryExpand(ReadOnlySpan<byte> from, Span<byte> to)
    {
        if (from.Length < TableLength + 4)
            return false;
        for (var i = 0; i < TableLength; i++)
        {
            _lengths[2 * i] = (byte)(from[i] & 0xF);
            _lengths[2 * i + 1] = (byte)(from[i] >> 4);
        }
        if (!_codes.Make(_lengths))
            return false;
        // The stream is read in words of 16 bits, one of them ahead; bytes of long lengths stand between them.
        var state = new Place(TableLength + 4, ((uint)Word(from, TableLength) << 16) | Word(from, TableLength + 2), 16);
        var written = 0;
        return TryExpandFast(from, to, ref state, ref written) && TryExpandRest(from, to, ref state, ref written)
            // One word may have been read ahead of the end, and be missing there.
            && state.At <= from.Length + 2;
    }

    /// <summary>Where reading stands.</summary>
    /// <param name="At">The next word or byte.</param>
    /// <param name="Bits">The next bits, from the highest on.</param>
    /// <param name="Ahead">How many of them there are beyond 16.</param>
    private record struct Place(int At, uint Bits, int Ahead);

    // As long as no read and no copy can reach an end; what is left is done with every step looked at. More words are read ahead than a
    // plain reader does; where a byte of a long length comes, and at the end, it is reckoned back where that one would stand.
    private bool TryExpandFast(ReadOnlySpan<byte> from, Span<byte> to, ref Place state, ref int written)
    {
        const int Wide = 8, MostRead = 2 * Wide + 3;
        ref var table = ref MemoryMarshal.GetArrayDataReference(_codes.First);
        ref var source = ref MemoryMarshal.GetReference(from);
        ref var target = ref MemoryMarshal.GetReference(to);
        var at = state.At;
        var bits = (ulong)state.Bits << 32;
        var held = state.Ahead + 16;
        int lastRead = from.Length - MostRead, put = 0, lastPut = to.Length - 2;
        while (at <= lastRead && put <= lastPut)
        {
            // At least 49 bits: for two codes and an offset.
            bits |= Words(Unsafe.ReadUnaligned<ulong>(ref Unsafe.Add(ref source, at))) >> held;
            var words = (64 - held) >> 4;
            at += 2 * words;
            held += 16 * words;
            uint entry = Unsafe.Add(ref table, (nint)(bits >> (64 - FirstBits)));
            if (entry == 0 && (entry = LongCode(bits)) == 0)
                return false;
            bits <<= (int)(entry & 0xF);
            held -= (int)(entry & 0xF);
            if (entry < Literals << 4)
            {
                Unsafe.Add(ref target, put++) = (byte)(entry >> 4);
                entry = Unsafe.Add(ref table, (nint)(bits >> (64 - FirstBits)));
                if (entry == 0 && (entry = LongCode(bits)) == 0)
                    return false;
                bits <<= (int)(entry & 0xF);
                held -= (int)(entry & 0xF);
                if (entry < Literals << 4)
                {
                    Unsafe.Add(ref target, put++) = (byte)(entry >> 4);
                    continue;
                }
            }
            var symbol = (int)(entry >> 4);
            var match = symbol & 0xF;
            var offsetBits = (symbol - Literals) >> 4;
            if (match == 0xF)
            {
                (at, held) = PlainPlace(at, held);
                bits &= ulong.MaxValue << (64 - held);
                if (!TryReadLength(from, ref at, out match))
                    return false;
            }
            match += ShortestMatch;
            var offset = (int)((1u << offsetBits) | (uint)((bits >> 1) >> (63 - offsetBits)));
            bits <<= offsetBits;
            held -= offsetBits;
            if (offset > put || match > to.Length - put)
                return false;
            if (offset >= Wide && match <= to.Length - put - Wide)
            {
                ref var into = ref Unsafe.Add(ref target, put);
                ref var end = ref Unsafe.Add(ref into, match);
                do
                {
                    Unsafe.WriteUnaligned(ref into, Unsafe.ReadUnaligned<ulong>(ref Unsafe.Subtract(ref into, offset)));
                    into = ref Unsafe.Add(ref into, Wide);
                }
                while (Unsafe.IsAddressLessThan(ref into, ref end));
            }
            else
                Copy(to, put, offset, match);
            put += match;
        }
        bits &= held == 0 ? 0 : ulong.MaxValue << (64 - held);
        for (; held < 16; held += 16, at += 2)
            bits |= (ulong)Word(from, at) << (48 - held);
        (at, held) = PlainPlace(at, held);
        state = new Place(at, (uint)((bits & (ulong.MaxValue << (64 - held))) >> 32), held - 16);
        written = put;
        return true;
    }

    // Four words in the order of their bits.
    private static ulong Words(ulong bytes)
    {
        var turned = BinaryPrimitives.ReverseEndianness(bytes);
        return ((turned & 0x00FF00FF00FF00FF) << 8) | ((turned >> 8) & 0x00FF00FF00FF00FF);
    }

    // A plain reader holds 16 to 31 bits after each code.
    private static (int At, int Held) PlainPlace(int at, int held)
    {
        var plain = (held & 15) + 16;
        return (at - (held - plain) / 8, plain);
    }

    [MethodImpl(MethodImplOptions.NoInlining)]
    private uint LongCode(ulong bits)
    {
        var symbol = _codes.Decode((uint)(bits >> 48), out var length);
        return length == 0 ? 0 : ((uint)symbol << 4) | (uint)length;
    }

    private bool TryExpandRest(ReadOnlySpan<byte> from, Span<byte> to, ref Place state, ref int written)
    {
        var (at, bits, ahead) = state;
        while (written < to.Length)
        {
            var symbol = _codes.Decode(bits >> 16, out var length);
            if (length == 0)
                return false;
            bits <<= length;
            if ((ahead -= length) < 0)
            {
                bits |= (uint)Word(from, at) << -ahead;
                at += 2;
                ahead += 16;
            }
            if (symbol < Literals)
            {
                to[written++] = (byte)symbol;
                continue;
            }
            var match = symbol & 0xF;
            var offsetBits = (symbol - Literals) >> 4;
            if (match == 0xF && !TryReadLength(from, ref at, out match))
                return false;
            match += ShortestMatch;
            var offset = (int)((1u << offsetBits) | (offsetBits == 0 ? 0 : bits >> (32 - offsetBits)));
            bits <<= offsetBits;
            if ((ahead -= offsetBits) < 0)
            {
                bits |= (uint)Word(from, at) << -ahead;
                at += 2;
                ahead += 16;
            }
            if (offset > written || match > to.Length - written)
                return false;
            Copy(to, written, offset, match);
            written += match;
        }
        state = new Place(at, bits, ahead);
        return true;
    }

    // A long length stands in a byte between the words, a very long one in two more.
    private static bool TryReadLength(ReadOnlySpan<byte> from, ref int at, out int match)
    {
        const int Long = 0xF, VeryLong = 0xFF;
        match = 0;
        if (at >= from.Length)
            return false;
        match = from[at++];
        if (match < VeryLong)
        {
            match += Long;
            return true;
        }
        match = Word(from, at);
        at += 2;
        return match >= Long;
    }

    private static ushort Word(ReadOnlySpan<byte> from, int at) => (uint)(at + 1) < (uint)from.Length ? (ushort)(from[at] | (from[at + 1] << 8)) : (ushort)0;

    /// <summary>Copies from what was written before, byte for byte where both overlap.</summary>
    internal static void Copy(Span<byte> to, int at, int offset, int count)
    {
        if (offset >= count)
        {
            to.Slice(at - offset, count).CopyTo(to[at..]);
            return;
        }
        if (offset == 1)
        {
            to.Slice(at, count).Fill(to[at - 1]);
            return;
        }
        var source = to.Slice(at - offset, offset + count);
        for (var i = offset; i < source.Length; i++)
            source[i] = source[i - offset];
    }
}
