using System.Buffers.Binary;

namespace Vembar.Tests;

/// <summary>
/// Writes LZX units plainly, for tests: codes of fixed lengths, blocks of every kind in turn, matches found along one chain. Written from
/// the published description and apart from the decoder.
/// </summary>
internal sealed class LzxTestEncoder
{
    private const int MainSymbols = 496, LengthSymbols = 249;

    private readonly List<byte> _out = [];
    private uint _word;
    private int _held;

    private static readonly int[] s_first = new int[31];
    private static readonly int[] s_extra = new int[30];

    static LzxTestEncoder()
    {
        for (var slot = 0; slot < 30; slot++)
        {
            s_extra[slot] = slot < 4 ? 0 : (slot - 2) / 2;
            s_first[slot + 1] = s_first[slot] + (1 << s_extra[slot]);
        }
    }

    /// <summary>Compresses a unit.</summary>
    /// <param name="plain">At most 32 KiB.</param>
    /// <param name="blocks">How many blocks it is cut into; their kinds take turns: verbatim, aligned, as it is.</param>
    /// <param name="firstKind">The kind of the first one, 0 to 2.</param>
    /// <param name="jumps">Whether targets of jumps are made absolute, as decoders expect where there is the byte E8.</param>
    public static byte[] Compress(ReadOnlySpan<byte> plain, int blocks = 3, int firstKind = 0, bool jumps = true)
    {
        var bytes = plain.ToArray();
        if (jumps)
            Translate(bytes);
        var encoder = new LzxTestEncoder();
        int[] recent = [1, 1, 1];
        var isFirst = true;
        for (var block = 0; block < blocks; block++)
        {
            int from = bytes.Length * block / blocks, to = bytes.Length * (block + 1) / blocks;
            if (from == to)
                continue;
            var kind = (block + firstKind) % 3 + 1;
            encoder.Bits((uint)kind, 3);
            if (to - from == 32768)
                encoder.Bits(1, 1);
            else
            {
                encoder.Bits(0, 1);
                encoder.Bits((uint)(to - from), 16);
            }
            if (kind == 3)
                encoder.Stored(bytes.AsSpan(from, to - from), recent);
            else
            {
                encoder.Codes(kind == 2, isFirst);
                isFirst = false;
                encoder.Block(bytes, from, to, kind == 2, recent);
            }
        }
        encoder.Flush();
        return [.. encoder._out];
    }

    private static void Translate(byte[] bytes)
    {
        const int FileLength = 12_000_000;
        for (var i = 0; i < bytes.Length - 10; i++)
        {
            if (bytes[i] != 0xE8)
                continue;
            var relative = BinaryPrimitives.ReadInt32LittleEndian(bytes.AsSpan(i + 1));
            if (relative >= -i && relative < FileLength)
                BinaryPrimitives.WriteInt32LittleEndian(bytes.AsSpan(i + 1),
                    relative < FileLength - i ? relative + i : relative - FileLength);
            i += 4;
        }
    }

    private void Bits(uint value, int count)
    {
        for (var i = count - 1; i >= 0; i--)
        {
            _word = (_word << 1) | ((value >> i) & 1);
            if (++_held == 16)
                Flush();
        }
    }

    private void Flush()
    {
        if (_held == 0)
            return;
        _word <<= 16 - _held;
        _out.Add((byte)_word);
        _out.Add((byte)(_word >> 8));
        (_word, _held) = (0, 0);
    }

    private void Stored(ReadOnlySpan<byte> bytes, int[] recent)
    {
        // Up to the next word; a whole one where the stream stands at one.
        Bits(0, 16 - _held);
        Span<byte> offset = stackalloc byte[4];
        foreach (var value in recent)
        {
            BinaryPrimitives.WriteInt32LittleEndian(offset, value);
            _out.AddRange(offset);
        }
        _out.AddRange(bytes);
        if (bytes.Length % 2 == 1)
            _out.Add(0);
    }

    // Main codes of 8 (the first 16 symbols) and 9 bits, length codes of 7 (the first 7) and 8 bits.
    private void Codes(bool isAligned, bool isFirst)
    {
        if (isAligned)
        {
            for (var i = 0; i < 8; i++)
                Bits(3, 3);
        }
        Lengths(16, 8, 256 - 16, 9, isFirst);
        Lengths(0, 8, MainSymbols - 256, 9, isFirst);
        Lengths(7, 7, LengthSymbols - 7, 8, isFirst);
    }

    private void Lengths(int firstCount, int firstLength, int count, int length, bool isFirst)
    {
        // As differences modulo 17: from 0 in the first block, none afterwards. Four codes of two bits each.
        int[] symbols = isFirst ? [17 - firstLength, 17 - length, 19, 18] : [0, 1, 19, 18];
        Array.Sort(symbols);
        for (var i = 0; i < 20; i++)
            Bits(symbols.Contains(i) ? 2u : 0, 4);
        void Symbol(int symbol) => Bits((uint)Array.IndexOf(symbols, symbol), 2);
        foreach (var (n, l) in ((int, int)[])[(firstCount, firstLength), (count, length)])
        {
            var left = n;
            // Some of them as runs of the same.
            while (left >= 5)
            {
                Symbol(19);
                Bits(1, 1);
                Symbol(isFirst ? 17 - l : 0);
                left -= 5;
            }
            for (; left > 0; left--)
                Symbol(isFirst ? 17 - l : 0);
        }
    }

    private void Main(int symbol)
    {
        if (symbol < 16)
            Bits((uint)symbol, 8);
        else
            Bits((uint)(symbol - 16 + 32), 9);
    }

    private void Length(int symbol)
    {
        if (symbol < 7)
            Bits((uint)symbol, 7);
        else
            Bits((uint)(symbol - 7 + 14), 8);
    }

    private void Block(byte[] bytes, int from, int to, bool isAligned, int[] recent)
    {
        var places = new Dictionary<int, int>();
        int Key(int at) => bytes[at] | (bytes[at + 1] << 8) | (bytes[at + 2] << 16);
        for (var i = 0; i + 2 < from; i++)
            places[Key(i)] = i;
        for (var at = from; at < to;)
        {
            var length = 0;
            var offset = 0;
            if (at + 3 <= to && places.TryGetValue(Key(at), out var place))
            {
                offset = at - place;
                while (at + length < to && length < 257 && bytes[place + length] == bytes[at + length])
                    length++;
            }
            if (length < 3)
            {
                Main(bytes[at]);
                length = 1;
            }
            else
                Match(length, offset, isAligned, recent);
            for (var end = at + length; at < end; at++)
            {
                if (at + 2 < bytes.Length)
                    places[Key(at)] = at;
            }
        }
    }

    private void Match(int length, int offset, bool isAligned, int[] recent)
    {
        var slot = Array.IndexOf(recent, offset);
        if (slot >= 0)
            (recent[slot], recent[0]) = (recent[0], offset);
        else
        {
            slot = 29;
            while (s_first[slot] > offset + 2)
                slot--;
            (recent[2], recent[1], recent[0]) = (recent[1], recent[0], offset);
        }
        var header = Math.Min(length - 2, 7);
        Main(256 + slot * 8 + header);
        if (header == 7)
            Length(length - 2 - 7);
        if (slot < 3)
            return;
        var rest = (uint)(offset + 2 - s_first[slot]);
        if (isAligned && s_extra[slot] >= 3)
        {
            Bits(rest >> 3, s_extra[slot] - 3);
            Bits(rest & 7, 3);
        }
        else
            Bits(rest, s_extra[slot]);
    }
}
