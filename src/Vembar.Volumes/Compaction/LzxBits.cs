using System.Buffers.Binary;

namespace Vembar.Volumes.Compaction;

/// <summary>The bits of an LZX stream: words of 16 bits, the highest first. Behind the end there are zeros, and <see cref="IsPast"/> says
/// so.</summary>
internal ref struct LzxBits(ReadOnlySpan<byte> bytes)
{
    private readonly ReadOnlySpan<byte> _bytes = bytes;
    private int _at;
    private uint _bits;
    private int _held;

    /// <summary>Whether more was taken than there is.</summary>
    public readonly bool IsPast => _at - _held / 16 * 2 > _bytes.Length;

    private void Fill()
    {
        while (_held <= 16)
        {
            uint word = _at + 1 < _bytes.Length ? BinaryPrimitives.ReadUInt16LittleEndian(_bytes[_at..]) : 0u;
            _at += 2;
            _bits |= word << (16 - _held);
            _held += 16;
        }
    }

    /// <summary>Takes up to 16 bits.</summary>
    public uint Take(int count)
    {
        if (count == 0)
            return 0;
        ArgumentOutOfRangeException.ThrowIfGreaterThan(count, 16);
        Fill();
        var value = _bits >> (32 - count);
        _bits <<= count;
        _held -= count;
        return value;
    }

    /// <summary>Takes a code.</summary>
    public bool TryDecode(HuffmanTable codes, out int symbol)
    {
        Fill();
        symbol = codes.Decode(_bits >> 16, out var length);
        _bits <<= length;
        _held -= length;
        return length > 0;
    }

    /// <summary>Goes to the next word, of which there is always one to leave, and reads the three recent offsets behind it.</summary>
    public bool TryAlign(scoped Span<int> recent)
    {
        // At least one bit is left out, so a stream that stands at a word leaves out all of the next.
        Fill();
        var whole = _held / 16;
        if (_held % 16 == 0)
            whole--;
        _at -= whole * 2;
        (_bits, _held) = (0, 0);
        if (_at < 0 || _at + 12 > _bytes.Length)
            return false;
        for (var i = 0; i < recent.Length; i++)
        {
            recent[i] = BinaryPrimitives.ReadInt32LittleEndian(_bytes[(_at + 4 * i)..]);
            if (recent[i] <= 0)
                return false;
        }
        _at += 12;
        return true;
    }

    /// <summary>Copies bytes that stand as they are; after an odd number one more is left out.</summary>
    public bool TryCopy(scoped Span<byte> to)
    {
        if (to.Length > _bytes.Length - _at)
            return false;
        _bytes.Slice(_at, to.Length).CopyTo(to);
        _at += to.Length + (to.Length & 1);
        return true;
    }
}
