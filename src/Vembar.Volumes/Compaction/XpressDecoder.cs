using System.Buffers.Binary;
using System.Runtime.CompilerServices;
using System.Runtime.InteropServices;

namespace Vembar.Volumes.Compaction;

/// <summary>Expands units that were compressed by XPRESS with Huffman codes. One at a time; keep one for each thread.</summary>
/// <remarks>Source: MS-XCA 2.2, "LZ77+Huffman decompression".</remarks>
internal sealed class XpressDecoder
{
    private const int Symbols = 512, TableLength = Symbols / 2, FirstBits = 11, ShortestMatch = 3, Literals = 256;

    // What a symbol means, beside its number: bits of the offset, length of the match, and what it is when that is plain.
    private const int OffsetBitsAt = 4, LengthAt = 8, IsLiteral = 1 << 13, IsShortMatch = 1 << 14;
    private static readonly ushort[] s_meanings = [.. Enumerable.Range(0, Symbols).Select(Meaning)];

    private static ushort Meaning(int symbol)
    {
        if (symbol < Literals)
            return IsLiteral;
        var offsetBits = (symbol - Literals) >> 4;
        var match = symbol & 0xF;
        return (ushort)(match == 0xF ? 0 : IsShortMatch | offsetBits << OffsetBitsAt | (match + ShortestMatch) << LengthAt);
    }

    private readonly HuffmanTable _codes = new(Symbols, FirstBits, s_meanings);
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
        while (written < to.Length)
        {
            ExpandPlain(from, to, ref state, ref written);
            if (written < to.Length && !TryExpandOne(from, to, ref state, ref written))
                return false;
        }
        // One word may have been read ahead of the end, and be missing there.
        return state.At <= from.Length + 2;
    }

    // Where reading stands.
    private struct Place(int at, uint bits, int ahead)
    {
        // The next word or byte.
        public int At = at;

        // The next bits, from the highest on.
        public uint Bits = bits;

        // How many of them there are beyond 16.
        public int Ahead = ahead;

        public void Skip(ReadOnlySpan<byte> from, int count)
        {
            Bits <<= count;
            if ((Ahead -= count) >= 0)
                return;
            Bits |= (uint)Word(from, At) << -Ahead;
            At += 2;
            Ahead += 16;
        }
    }

    // Goes on as long as no read and no copy can reach an end, and stops before a symbol that is not plain: a long code, a long match, one
    // of
    // bytes just written. More words are read ahead than a plain reader does; at the end it is reckoned back where that one would stand.
    // It calls nothing, so that all that it works with stays in registers.
    private void ExpandPlain(ReadOnlySpan<byte> from, Span<byte> to, ref Place state, ref int written)
    {
        const int Wide = 8, MostRead = 2 * Wide, Short = 3 * Wide;
        int at = state.At, lastRead = from.Length - MostRead, put = written, lastPut = to.Length - 2 - Short;
        if (at > lastRead || put > lastPut)
            return;
        ref var table = ref MemoryMarshal.GetArrayDataReference(_codes.First);
        ref var source = ref MemoryMarshal.GetReference(from);
        ref var target = ref MemoryMarshal.GetReference(to);
        var bits = (ulong)state.Bits << 32;
        var held = state.Ahead + 16;
        // Read one turn before they are needed: nothing waits for them then.
        var next = Words(Unsafe.ReadUnaligned<ulong>(ref Unsafe.Add(ref source, at)));
        do
        {
            // At least 49 bits: for two codes and an offset.
            bits |= next >> held;
            var words = (64 - held) >> 4;
            at += 2 * words;
            held += 16 * words;
            next = Words(Unsafe.ReadUnaligned<ulong>(ref Unsafe.Add(ref source, at)));
            var entry = Unsafe.Add(ref table, (nint)(bits >> (64 - FirstBits)));
            if ((entry & IsLiteral) != 0)
            {
                Unsafe.Add(ref target, put++) = (byte)(entry >> 16);
                bits <<= (int)(entry & 0xF);
                held -= (int)(entry & 0xF);
                entry = Unsafe.Add(ref table, (nint)(bits >> (64 - FirstBits)));
                if ((entry & IsLiteral) != 0)
                {
                    Unsafe.Add(ref target, put++) = (byte)(entry >> 16);
                    bits <<= (int)(entry & 0xF);
                    held -= (int)(entry & 0xF);
                    continue;
                }
            }
            var behind = bits << (int)(entry & 0xF);
            var offsetBits = (int)(entry >> OffsetBitsAt) & 0xF;
            var offset = (int)((1u << offsetBits) | (uint)((behind >> 1) >> (63 - offsetBits)));
            if ((entry & IsShortMatch) == 0 || offset < Wide || offset > put)
                break;
            bits = behind << offsetBits;
            held -= (int)(entry & 0xF) + offsetBits;
            ref var into = ref Unsafe.Add(ref target, put);
            ref var old = ref Unsafe.Subtract(ref into, offset);
            put += (int)(entry >> LengthAt) & 0x1F;
            Unsafe.WriteUnaligned(ref into, Unsafe.ReadUnaligned<ulong>(ref old));
            Unsafe.WriteUnaligned(ref Unsafe.Add(ref into, Wide), Unsafe.ReadUnaligned<ulong>(ref Unsafe.Add(ref old, Wide)));
            Unsafe.WriteUnaligned(ref Unsafe.Add(ref into, 2 * Wide), Unsafe.ReadUnaligned<ulong>(ref Unsafe.Add(ref old, 2 * Wide)));
        }
        while (at <= lastRead && put <= lastPut);
        bits &= held == 0 ? 0 : ulong.MaxValue << (64 - held);
        if (held < 16)
        {
            bits |= (ulong)Unsafe.ReadUnaligned<ushort>(ref Unsafe.Add(ref source, at)) << (48 - held);
            at += 2;
            held += 16;
        }
        // A plain reader holds 16 to 31 bits after each code.
        var plain = (held & 15) + 16;
        at -= (held - plain) / 8;
        state = new Place(at, (uint)((bits & (ulong.MaxValue << (64 - plain))) >> 32), plain - 16);
        written = put;
    }

    // Four words in the order of their bits.
    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    private static ulong Words(ulong bytes)
    {
        var turned = BinaryPrimitives.ReverseEndianness(bytes);
        return ((turned & 0x00FF00FF00FF00FF) << 8) | ((turned >> 8) & 0x00FF00FF00FF00FF);
    }

    // One symbol, whatever it is, with every step looked at.
    private bool TryExpandOne(ReadOnlySpan<byte> from, Span<byte> to, ref Place state, ref int written)
    {
        var symbol = _codes.Decode(state.Bits >> 16, out var length);
        if (length == 0)
            return false;
        state.Skip(from, length);
        if (symbol < Literals)
        {
            to[written++] = (byte)symbol;
            return true;
        }
        var match = symbol & 0xF;
        var offsetBits = (symbol - Literals) >> 4;
        if (match == 0xF && !TryReadLength(from, ref state.At, out match))
            return false;
        match += ShortestMatch;
        var offset = (int)((1u << offsetBits) | (offsetBits == 0 ? 0 : state.Bits >> (32 - offsetBits)));
        state.Skip(from, offsetBits);
        if (offset > written || match > to.Length - written)
            return false;
        Copy(to, written, offset, match);
        written += match;
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

    private static ushort Word(ReadOnlySpan<byte> from, int at) =>
        (uint)(at + 1) < (uint)from.Length ? (ushort)(from[at] | (from[at + 1] << 8)) : (ushort)0;

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
