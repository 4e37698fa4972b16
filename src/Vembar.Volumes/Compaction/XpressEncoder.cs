using System.Buffers.Binary;
using System.Numerics;
using System.Runtime.CompilerServices;
using System.Runtime.InteropServices;

namespace Vembar.Volumes.Compaction;

/// <summary>Compresses units by XPRESS with Huffman codes. One at a time; keep one for each thread.</summary>
/// <remarks>Source: MS-XCA 2.1, "LZ77+Huffman compression". Matches are looked for along chains of places with the same three
/// bytes.</remarks>
internal sealed class XpressEncoder
{
    private const int Symbols = 512, Literals = 256, TableLength = Symbols / 2, LongestCode = 15, LongestUnit = 16 << 10,
        ShortestMatch = 3, HashBits = 12, Tries = 12, GoodMatch = 48;

    private readonly int[] _heads = new int[1 << HashBits];
    private readonly int[] _before = new int[LongestUnit];
    private readonly int[] _matches = new int[LongestUnit];
    private readonly int[] _counts = new int[Symbols];
    private readonly byte[] _lengths = new byte[Symbols];
    private readonly ushort[] _codes = new ushort[Symbols];

    /// <summary>Compresses a unit.</summary>
    /// <param name="from">The unit, at most 16 KiB.</param>
    /// <param name="to">Room for less than the unit's length.</param>
    /// <returns>How many bytes it took; 0 when they would not be fewer than the unit has.</returns>
    public int Compress(ReadOnlySpan<byte> from, Span<byte> to)
    {
        var count = Parse(from);
        HuffmanLengths.Find(_counts, _lengths, LongestCode);
        // What it will take is known beforehand.
        var bits = 0L;
        for (var symbol = 0; symbol < Symbols; symbol++)
            bits += (long)_counts[symbol] * (_lengths[symbol] + (symbol >= Literals ? (symbol - Literals) >> 4 : 0));
        if (TableLength + bits / 8 + 4 >= from.Length || from.Length <= TableLength)
            return 0;
        HuffmanLengths.Codes(_lengths, _codes);
        for (var i = 0; i < TableLength; i++)
            to[i] = (byte)(_lengths[2 * i] | (_lengths[2 * i + 1] << 4));
        return Write(from, to[..Math.Min(to.Length, from.Length)], count);
    }

    // Finds matches: each is its length above its offset, a literal is 0. Counts the symbols.
    private int Parse(ReadOnlySpan<byte> from)
    {
        _counts.AsSpan().Clear();
        _heads.AsSpan().Fill(-1);
        var count = 0;
        for (var at = 0; at < from.Length;)
        {
            var (length, offset) = at + ShortestMatch < from.Length ? Match(from, at) : (0, 0);
            if (length < ShortestMatch)
            {
                _counts[from[at]]++;
                _matches[count++] = 0;
                Note(from, at++);
                continue;
            }
            _counts[SymbolOf(length, offset)]++;
            _matches[count++] = (length << 16) | offset;
            for (var end = at + length; at < end; at++)
                Note(from, at);
        }
        return count;
    }

    private static int Hash(ReadOnlySpan<byte> from, int at) =>
        (int)(((from[at] | ((uint)from[at + 1] << 8) | ((uint)from[at + 2] << 16)) * 0x9E3779B1u) >> (32 - HashBits));

    private void Note(ReadOnlySpan<byte> from, int at)
    {
        if (at + 2 >= from.Length)
            return;
        ref var head = ref _heads[Hash(from, at)];
        _before[at] = head;
        head = at;
    }

    private (int Length, int Offset) Match(ReadOnlySpan<byte> from, int at)
    {
        var (best, offset) = (ShortestMatch - 1, 0);
        ref var start = ref MemoryMarshal.GetReference(from);
        ref var here = ref Unsafe.Add(ref start, at);
        var room = from.Length - at;
        // Below, two bytes are looked at together: the last that would have to be the same, and the one before it.
        if (room <= ShortestMatch)
            return (0, 0);
        var wanted = Unsafe.ReadUnaligned<ushort>(ref Unsafe.Add(ref here, best - 1));
        var tries = Tries;
        for (var place = _heads[Hash(from, at)]; place >= 0 && tries > 0; place = _before[place], tries--)
        {
            ref var there = ref Unsafe.Add(ref start, place);
            if (Unsafe.ReadUnaligned<ushort>(ref Unsafe.Add(ref there, best - 1)) != wanted)
                continue;
            var length = CommonLength(ref here, ref there, room);
            if (length <= best)
                continue;
            (best, offset) = (length, at - place);
            if (best >= GoodMatch || best + 1 >= room)
                break;
            wanted = Unsafe.ReadUnaligned<ushort>(ref Unsafe.Add(ref here, best - 1));
        }
        return offset == 0 ? (0, 0) : (best, offset);
    }

    private static int CommonLength(ref byte here, ref byte there, int room)
    {
        const int Wide = 8;
        var length = 0;
        for (; length + Wide <= room; length += Wide)
        {
            var difference =
                Unsafe.ReadUnaligned<ulong>(ref Unsafe.Add(ref here, length)) ^ Unsafe.ReadUnaligned<ulong>(ref Unsafe.Add(ref there,
                length));
            if (difference != 0)
                return length + (BitOperations.TrailingZeroCount(difference) >> 3);
        }
        while (length < room && Unsafe.Add(ref here, length) == Unsafe.Add(ref there, length))
            length++;
        return length;
    }

    private static int SymbolOf(int length, int offset) =>
        Literals + (BitOperations.Log2((uint)offset) << 4) + Math.Min(length - ShortestMatch, 0xF);

    private int Write(ReadOnlySpan<byte> from, Span<byte> to, int count)
    {
        // Words are laid where a decoder will look for them: two ahead of the bytes that stand between.
        int first = TableLength, second = TableLength + 2, next = TableLength + 4, free = 16;
        uint word = 0;
        var at = 0;
        for (var i = 0; i < count; i++)
        {
            var match = _matches[i];
            var (length, offset) = (match >> 16, match & 0xFFFF);
            var symbol = match == 0 ? from[at] : SymbolOf(length, offset);
            if (next + 8 > to.Length)
                return 0;
            Bits(to, _codes[symbol], _lengths[symbol]);
            if (match == 0)
            {
                at++;
                continue;
            }
            at += length;
            length -= ShortestMatch;
            if (length >= 0xF)
            {
                if (length - 0xF < 0xFF)
                    to[next++] = (byte)(length - 0xF);
                else
                {
                    to[next++] = 0xFF;
                    BinaryPrimitives.WriteUInt16LittleEndian(to[next..], (ushort)length);
                    next += 2;
                }
            }
            var bits = BitOperations.Log2((uint)offset);
            Bits(to, (uint)offset & ((1u << bits) - 1), bits);
        }
        word <<= free;
        BinaryPrimitives.WriteUInt16LittleEndian(to[first..], (ushort)word);
        BinaryPrimitives.WriteUInt16LittleEndian(to[second..], 0);
        return next < from.Length ? next : 0;

        void Bits(Span<byte> into, uint value, int bits)
        {
            if (free >= bits)
            {
                free -= bits;
                word = (word << bits) | value;
                return;
            }
            word = (word << free) | (value >> (bits - free));
            BinaryPrimitives.WriteUInt16LittleEndian(into[first..], (ushort)word);
            (first, second, next) = (second, next, next + 2);
            free += 16 - bits;
            word = value & ((1u << (16 - free)) - 1);
        }
    }
}
