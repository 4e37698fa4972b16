using System.Buffers;
using System.Buffers.Binary;
using System.Text;

namespace Vembar.Core.Content;

/// <summary>Bytes of a structure of the archive do not make sense.</summary>
public sealed class BinaryFormatException : Exception
{
    /// <summary>Creates the error.</summary>
    /// <param name="what">Which structure.</param>
    /// <param name="position">The byte at which it stopped making sense.</param>
    /// <param name="problem">What is wrong there.</param>
    public BinaryFormatException(string what, int position, string problem) : base($"{what}, byte {position}: {problem}")
    {
    }
}

/// <summary>Reads the archive's binary structures from bytes that cannot be trusted: every read is bounded, every error has its position.</summary>
public ref struct BinaryFormatReader
{
    private readonly ReadOnlySpan<byte> _data;
    private readonly string _what;

    /// <summary>Begins at the first byte.</summary>
    /// <param name="data">All bytes of the structure.</param>
    /// <param name="what">Its name, for errors.</param>
    public BinaryFormatReader(ReadOnlySpan<byte> data, string what)
    {
        _data = data;
        _what = what;
    }

    /// <summary>The place of the next byte.</summary>
    public int Position { get; private set; }

    /// <summary>Bytes not read yet.</summary>
    public readonly int Left => _data.Length - Position;

    /// <summary>The error for the present place.</summary>
    public readonly BinaryFormatException Error(string problem) => new(_what, Position, problem);

    /// <summary>Some bytes.</summary>
    public ReadOnlySpan<byte> Bytes(int count)
    {
        if (count < 0 || count > Left)
            throw Error($"{count} bytes are announced, {Left} are left");
        var bytes = _data.Slice(Position, count);
        Position += count;
        return bytes;
    }

    /// <summary>One byte.</summary>
    public byte Byte() => Bytes(1)[0];

    /// <summary>Two bytes, little-endian.</summary>
    public ushort UInt16() => BinaryPrimitives.ReadUInt16LittleEndian(Bytes(2));

    /// <summary>Four bytes, little-endian.</summary>
    public uint UInt32() => BinaryPrimitives.ReadUInt32LittleEndian(Bytes(4));

    /// <summary>Eight bytes, little-endian.</summary>
    public ulong UInt64() => BinaryPrimitives.ReadUInt64LittleEndian(Bytes(8));

    /// <summary>Eight bytes, little-endian, signed.</summary>
    public long Int64() => BinaryPrimitives.ReadInt64LittleEndian(Bytes(8));

    /// <summary>A number of 7 bits a byte, lowest first, at most 10 bytes.</summary>
    public ulong Number()
    {
        ulong value = 0;
        for (var shift = 0; shift < 64; shift += 7)
        {
            var part = Byte();
            if (shift == 63 && part > 1)
                break;
            value |= (ulong)(part & 0x7F) << shift;
            if (part < 0x80)
                return value;
        }
        throw Error("a number is longer than 64 bits");
    }

    /// <summary>A number that counts things of at least <paramref name="least"/> bytes each, so that it cannot announce more than there is.</summary>
    public int Count(int least)
    {
        var count = Number();
        return count <= (ulong)(Left / Math.Max(least, 1)) ? (int)count : throw Error($"{count} items are announced, more than the bytes left can hold");
    }

    /// <summary>An id of 32 bytes.</summary>
    public ChunkId Id() => ChunkId.Read(Bytes(ChunkId.Length));

    /// <summary>Bytes with their number in front.</summary>
    public ReadOnlySpan<byte> Block() => Bytes(Count(1));

    /// <summary>Text with its length in front, in UTF-8 that may hold lone surrogates (three bytes each).</summary>
    public string Text() => WideText.Decode(Block());

    /// <summary>Fails when bytes are left.</summary>
    public readonly void End()
    {
        if (Left != 0)
            throw Error($"{Left} bytes are left over");
    }
}

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
    public BinaryFormatWriter Text(string text) => Block(WideText.Encode(text));
}

/// <summary>UTF-8 that also carries lone surrogates, as three bytes each, so that every UTF-16 name keeps its form.</summary>
/// <remarks>Source: "The WTF-8 encoding" (Sapin), sections 2 and 4.</remarks>
public static class WideText
{
    /// <summary>The bytes of a text.</summary>
    public static byte[] Encode(string text)
    {
        if (text.AsSpan().IndexOfAnyInRange('\uD800', '\uDFFF') < 0)
            return Encoding.UTF8.GetBytes(text);
        var room = new byte[text.Length * 3];
        var used = 0;
        for (var i = 0; i < text.Length;)
        {
            if (Rune.DecodeFromUtf16(text.AsSpan(i), out var rune, out var units) == OperationStatus.Done)
            {
                used += rune.EncodeToUtf8(room.AsSpan(used));
                i += units;
                continue;
            }
            var unit = text[i++];
            room[used++] = (byte)(0xE0 | (unit >> 12));
            room[used++] = (byte)(0x80 | ((unit >> 6) & 0x3F));
            room[used++] = (byte)(0x80 | (unit & 0x3F));
        }
        return room[..used];
    }

    /// <summary>The text of some bytes; bytes that are neither UTF-8 nor a lone surrogate become U+FFFD.</summary>
    public static string Decode(ReadOnlySpan<byte> bytes)
    {
        if (System.Text.Unicode.Utf8.IsValid(bytes))
            return Encoding.UTF8.GetString(bytes);
        var text = new StringBuilder(bytes.Length);
        while (!bytes.IsEmpty)
        {
            if (bytes.Length >= 3 && bytes[0] == 0xED && bytes[1] is >= 0xA0 and <= 0xBF && bytes[2] is >= 0x80 and <= 0xBF)
            {
                text.Append((char)(0xD000 | ((bytes[1] & 0x3F) << 6) | (bytes[2] & 0x3F)));
                bytes = bytes[3..];
                continue;
            }
            Rune.DecodeFromUtf8(bytes, out var rune, out var used);
            text.Append(rune.ToString());
            bytes = bytes[used..];
        }
        return text.ToString();
    }
}
