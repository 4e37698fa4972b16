using System.Buffers.Binary;
using Vembar.Common.Formats;
using Vembar.Store.Hashing;

namespace Vembar.Store.Format;

/// <summary>Reads the archive's binary structures from bytes that cannot be trusted: every read is bounded, every error has its
/// position.</summary>
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

    /// <summary>A number that counts things of at least <paramref name="least"/> bytes each, so that it cannot announce more than there
    /// is.</summary>
    public int Count(int least)
    {
        var count = Number();
        return count <= (ulong)(Left / Math.Max(least, 1)) ? (int)count
            : throw Error($"{count} items are announced, more than the bytes left can hold");
    }

    /// <summary>An id of 32 bytes.</summary>
    public ChunkId Id() => ChunkId.Read(Bytes(ChunkId.Length));

    /// <summary>Bytes with their number in front.</summary>
    public ReadOnlySpan<byte> Block() => Bytes(Count(1));

    /// <summary>Text with its length in front, in UTF-8 that may hold lone surrogates (three bytes each).</summary>
    public string Text() => Wtf8.Decode(Block());

    /// <summary>Fails when bytes are left.</summary>
    public readonly void End()
    {
        if (Left != 0)
            throw Error($"{Left} bytes are left over");
    }
}
