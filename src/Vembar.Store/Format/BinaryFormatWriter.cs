using System.Buffers.Binary;
using Vembar.Common.Formats;
using Vembar.Store.Hashing;

namespace Vembar.Store.Format;

/// <summary>Writes the archive's binary structures.</summary>
public sealed class BinaryFormatWriter
{
    private byte[] _data = new byte[256];
    private int _used;

    /// <summary>All bytes so far.</summary>
    public ReadOnlySpan<byte> Written => _data.AsSpan(0, _used);

    /// <summary>Forgets all bytes.</summary>
    public void Clear() => _used = 0;

    // Room for some more bytes, which count as written.
    private Span<byte> Next(int count)
    {
        if (_data.Length - _used < count)
            Array.Resize(ref _data, Math.Max(checked(_used + count), (int)Math.Min(2L * _data.Length, Array.MaxLength)));
        var next = _data.AsSpan(_used, count);
        _used += count;
        return next;
    }

    /// <summary>Some bytes.</summary>
    public BinaryFormatWriter Bytes(ReadOnlySpan<byte> bytes)
    {
        bytes.CopyTo(Next(bytes.Length));
        return this;
    }

    /// <summary>One byte.</summary>
    public BinaryFormatWriter Byte(byte value)
    {
        Next(1)[0] = value;
        return this;
    }

    /// <summary>Two bytes, little-endian.</summary>
    public BinaryFormatWriter UInt16(ushort value)
    {
        BinaryPrimitives.WriteUInt16LittleEndian(Next(2), value);
        return this;
    }

    /// <summary>Four bytes, little-endian.</summary>
    public BinaryFormatWriter UInt32(uint value)
    {
        BinaryPrimitives.WriteUInt32LittleEndian(Next(4), value);
        return this;
    }

    /// <summary>Eight bytes, little-endian.</summary>
    public BinaryFormatWriter UInt64(ulong value)
    {
        BinaryPrimitives.WriteUInt64LittleEndian(Next(8), value);
        return this;
    }

    /// <summary>A number of 7 bits a byte, lowest first.</summary>
    public BinaryFormatWriter Number(ulong value)
    {
        for (; value >= 0x80; value >>= 7)
            Byte((byte)(value | 0x80));
        return Byte((byte)value);
    }

    /// <summary>An id of 32 bytes.</summary>
    public BinaryFormatWriter Id(ChunkId id)
    {
        id.Write(Next(ChunkId.Length));
        return this;
    }

    /// <summary>Bytes with their number in front.</summary>
    public BinaryFormatWriter Block(ReadOnlySpan<byte> bytes) => Number((ulong)bytes.Length).Bytes(bytes);

    /// <summary>Text with its length in front.</summary>
    public BinaryFormatWriter Text(string text) => Block(Wtf8.Encode(text));
}
