namespace Vembar.Volumes.Compaction;

/// <summary>Canonical Huffman codes of up to 16 bits, as tables to decode with: one look for short codes, a second for long ones.</summary>
internal sealed class HuffmanTable
{
    private const int Longest = 16;

    private readonly int _first;
    private readonly uint[] _short;
    private readonly ushort[]? _meanings;
    private readonly ushort[] _sorted;
    private readonly int[] _limits = new int[Longest + 1];
    private readonly int[] _offsets = new int[Longest + 1];

    /// <param name="symbols">How many symbols there are.</param>
    /// <param name="firstBits">How many bits are looked at first.</param>
    /// <param name="meanings">What <see cref="First"/> says of each symbol beside it: 12 bits, above four free ones; null for
    /// nothing.</param>
    public HuffmanTable(int symbols, int firstBits, ushort[]? meanings = null)
    {
        _first = firstBits;
        _short = new uint[1 << firstBits];
        _meanings = meanings;
        _sorted = new ushort[symbols];
    }

    /// <summary>What the first bits say: a symbol in the upper half, below it its meaning and in four bits its code's length; 0 where the
    /// code is longer.</summary>
    public uint[] First => _short;

    /// <summary>Makes the codes that these lengths give.</summary>
    /// <param name="lengths">The length of each symbol's code in bits; 0 for those that have none.</param>
    /// <returns>False when no codes have such lengths: too many, or not all that there must be. No code at all is right.</returns>
    public bool Make(ReadOnlySpan<byte> lengths)
    {
        Span<int> counts = stackalloc int[Longest + 1];
        counts.Clear();
        foreach (var length in lengths)
            counts[length]++;
        if (counts[0] == lengths.Length)
        {
            _short.AsSpan().Clear();
            _limits.AsSpan().Clear();
            return true;
        }
        counts[0] = 0;
        Span<int> places = stackalloc int[Longest + 1];
        int code = 0, place = 0;
        for (var length = 1; length <= Longest; length++)
        {
            code = (code + counts[length - 1]) << 1;
            if (code + counts[length] > 1 << length)
                return false;
            places[length] = place;
            _offsets[length] = place - code;
            // The first 16-bit number that is not of a code of this length or a shorter one.
            _limits[length] = (code + counts[length]) << (Longest - length);
            place += counts[length];
        }
        for (var symbol = 0; symbol < lengths.Length; symbol++)
        {
            if (lengths[symbol] is > 0 and var length)
                _sorted[places[length]++] = (ushort)symbol;
        }
        // Entries of the first table: symbol and length; 0 where the code is longer than what is looked at.
        var at = 0;
        place = 0;
        for (var length = 1; length <= _first; length++)
        {
            var run = 1 << (_first - length);
            for (var n = counts[length]; n > 0; n--)
            {
                var symbol = _sorted[place++];
                _short.AsSpan(at, run).Fill(((uint)symbol << 16) | (_meanings is null ? 0u : _meanings[symbol]) | (uint)length);
                at += run;
            }
        }
        _short.AsSpan(at).Clear();
        return _limits[Longest] == 1 << Longest || IsOnlyOne(counts);
    }

    // A single symbol may have a code of one bit, and the other bit none.
    private static bool IsOnlyOne(ReadOnlySpan<int> counts)
    {
        var all = 0;
        foreach (var count in counts)
            all += count;
        return all == 1;
    }

    /// <summary>Decodes the code at the beginning of 16 bits.</summary>
    /// <param name="bits">The next 16 bits of the stream.</param>
    /// <param name="length">The code's length; 0 when there is no such code.</param>
    public int Decode(uint bits, out int length)
    {
        var entry = _short[bits >> (Longest - _first)];
        if (entry != 0)
        {
            length = (int)(entry & 0xF);
            return (int)(entry >> 16);
        }
        for (length = _first + 1; length <= Longest; length++)
        {
            if (bits < _limits[length])
                return _sorted[_offsets[length] + (int)(bits >> (Longest - length))];
        }
        length = 0;
        return 0;
    }
}
