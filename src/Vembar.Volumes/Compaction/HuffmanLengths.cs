namespace Vembar.Volumes.Compaction;

/// <summary>Lengths of Huffman codes for symbols that occur so often, none longer than a limit.</summary>
internal static class HuffmanLengths
{
    /// <summary>Finds them. A single symbol gets a code of one bit beside a second one that does not occur.</summary>
    /// <param name="counts">How often each symbol occurs.</param>
    /// <param name="lengths">Gets the length of each code; 0 for symbols that do not occur.</param>
    /// <param name="longest">No code is longer, in bits.</param>
    public static void Find(ReadOnlySpan<int> counts, Span<byte> lengths, int longest)
    {
        lengths.Clear();
        // A symbol below its count, so that they sort as numbers.
        const int SymbolBits = 9, MostSymbols = 1 << SymbolBits;
        ArgumentOutOfRangeException.ThrowIfGreaterThan(counts.Length, MostSymbols);
        Span<int> used = stackalloc int[MostSymbols];
        var n = 0;
        for (var symbol = 0; symbol < counts.Length; symbol++)
        {
            if (counts[symbol] > 0)
                used[n++] = (counts[symbol] << SymbolBits) | symbol;
        }
        if (n < 2)
        {
            // Decoders want all codes of a length to be there.
            var only = n == 1 ? used[0] & (MostSymbols - 1) : 0;
            lengths[only] = 1;
            lengths[only == 0 ? 1 : 0] = 1;
            return;
        }
        used = used[..n];
        used.Sort();
        // Two queues: symbols by count, and pairs as they are made, which come in order by themselves.
        Span<int> weight = stackalloc int[2 * MostSymbols];
        Span<int> parent = stackalloc int[2 * MostSymbols];
        weight[n..].Clear();
        for (var i = 0; i < n; i++)
            weight[i] = used[i] >> SymbolBits;
        int leaf = 0, pair = n, made = n;
        for (; made < 2 * n - 1; made++)
        {
            for (var child = 0; child < 2; child++)
            {
                var least = leaf < n && (pair >= made || weight[leaf] <= weight[pair]) ? leaf++ : pair++;
                weight[made] += weight[least];
                parent[least] = made;
            }
        }
        Span<int> depth = weight;
        depth[made - 1] = 0;
        Span<int> perLength = stackalloc int[longest + 1];
        perLength.Clear();
        for (var i = made - 2; i >= 0; i--)
        {
            depth[i] = depth[parent[i]] + 1;
            if (i < n)
                perLength[Math.Min(depth[i], longest)]++;
        }
        // Codes that were cut short take more room than there is; others give it, the longest that can first.
        var room = 0L;
        for (var length = 1; length <= longest; length++)
            room += (long)perLength[length] << (longest - length);
        for (; room > 1L << longest; room--)
        {
            var length = longest - 1;
            while (perLength[length] == 0)
                length--;
            perLength[length]--;
            perLength[length + 1] += 2;
            perLength[longest]--;
        }
        var next = 0;
        for (var length = longest; length > 0; length--)
        {
            for (var count = perLength[length]; count > 0; count--)
                lengths[used[next++] & (MostSymbols - 1)] = (byte)length;
        }
    }

    /// <summary>The canonical codes of these lengths.</summary>
    public static void Codes(ReadOnlySpan<byte> lengths, Span<ushort> codes)
    {
        const int Longest = 16;
        Span<int> counts = stackalloc int[Longest + 1], next = stackalloc int[Longest + 1];
        counts.Clear();
        foreach (var length in lengths)
            counts[length]++;
        (counts[0], next[0]) = (0, 0);
        for (var length = 1; length <= Longest; length++)
            next[length] = (next[length - 1] + counts[length - 1]) << 1;
        for (var symbol = 0; symbol < lengths.Length; symbol++)
            codes[symbol] = (ushort)next[lengths[symbol]]++;
    }
}
