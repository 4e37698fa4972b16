namespace Vembar.Windows.Registry.Hives;

/// <summary>The file of a hive that is only read, in pieces that other hives may have as well.</summary>
internal sealed class HivePieces
{
    private const int BlockBits = 12;

    private readonly List<(long Start, byte[] Bytes)> _pieces = [];
    // For each block of 4 KiB the piece that its first byte is in.
    private readonly List<int> _firsts = [];

    /// <param name="pieces">The file, in pieces that follow each other; none is written to.</param>
    public HivePieces(IEnumerable<byte[]> pieces)
    {
        foreach (var piece in pieces.Where(p => p.Length > 0))
        {
            var end = Length + piece.Length;
            while ((long)_firsts.Count << BlockBits < end)
                _firsts.Add(_pieces.Count);
            _pieces.Add((Length, piece));
            Length = end;
        }
    }

    /// <summary>The length of the file in bytes.</summary>
    public long Length { get; }

    /// <summary>Bytes of the file, not to be written to: a copy where they do not lie together.</summary>
    /// <param name="at">Their place in the file.</param>
    /// <param name="count">How many; they are all there.</param>
    public Span<byte> Bytes(long at, int count)
    {
        if (count == 0)
            return [];
        var index = _firsts[(int)(at >> BlockBits)];
        while (at - _pieces[index].Start >= _pieces[index].Bytes.Length)
            index++;
        var (start, bytes) = _pieces[index];
        var within = (int)(at - start);
        if (count <= bytes.Length - within)
            return bytes.AsSpan(within, count);
        var copy = new byte[count];
        var done = 0;
        while (done < count)
        {
            var part = _pieces[index++].Bytes.AsSpan(within);
            part = part[..Math.Min(part.Length, count - done)];
            part.CopyTo(copy.AsSpan(done));
            done += part.Length;
            within = 0;
        }
        return copy;
    }
}
