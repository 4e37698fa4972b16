using System.Buffers.Binary;

namespace Vembar.Store.Hashing;

/// <summary>The identity of a piece of content: the 32-byte BLAKE3 hash of its plain bytes.</summary>
[System.Text.Json.Serialization.JsonConverter(typeof(ChunkIdJson))]
public readonly struct ChunkId : IEquatable<ChunkId>, IComparable<ChunkId>
{
    /// <summary>The length of an id in bytes.</summary>
    public const int Length = 32;

    private readonly ulong _a, _b, _c, _d;

    private ChunkId(ulong a, ulong b, ulong c, ulong d) => (_a, _b, _c, _d) = (a, b, c, d);

    /// <summary>The id whose bytes are given.</summary>
    /// <param name="bytes">At least 32 bytes; the first 32 count.</param>
    public static ChunkId Read(ReadOnlySpan<byte> bytes) => new(
        BinaryPrimitives.ReadUInt64BigEndian(bytes),
        BinaryPrimitives.ReadUInt64BigEndian(bytes[8..]),
        BinaryPrimitives.ReadUInt64BigEndian(bytes[16..]),
        BinaryPrimitives.ReadUInt64BigEndian(bytes[24..]));

    /// <summary>Reads 64 hexadecimal digits.</summary>
    public static bool TryParse(ReadOnlySpan<char> text, out ChunkId id)
    {
        id = default;
        Span<byte> bytes = stackalloc byte[Length];
        if (text.Length != 2 * Length || Convert.FromHexString(text, bytes, out _, out _) != System.Buffers.OperationStatus.Done)
            return false;
        id = Read(bytes);
        return true;
    }

    /// <summary>Writes the 32 bytes.</summary>
    public void Write(Span<byte> to)
    {
        BinaryPrimitives.WriteUInt64BigEndian(to, _a);
        BinaryPrimitives.WriteUInt64BigEndian(to[8..], _b);
        BinaryPrimitives.WriteUInt64BigEndian(to[16..], _c);
        BinaryPrimitives.WriteUInt64BigEndian(to[24..], _d);
    }

    /// <summary>The 32 bytes.</summary>
    public byte[] ToBytes()
    {
        var bytes = new byte[Length];
        Write(bytes);
        return bytes;
    }

    /// <summary>True for the id of all zeros, which stands for "none".</summary>
    public bool IsNone => (_a | _b | _c | _d) == 0;

    /// <summary>The first byte: the row of a fan-out table.</summary>
    public byte First => (byte)(_a >> 56);

    /// <summary>Where among the ids of its row it would be if they were spread evenly: 0 to below 1.</summary>
    internal double Fraction => (uint)(_a >> 24) / (double)(1L << 32);

    /// <inheritdoc/>
    public bool Equals(ChunkId other) => _a == other._a && _b == other._b && _c == other._c && _d == other._d;

    /// <inheritdoc/>
    public override bool Equals(object? obj) => obj is ChunkId other && Equals(other);

    /// <inheritdoc/>
    public override int GetHashCode() => (int)_b;

    /// <inheritdoc/>
    public int CompareTo(ChunkId other)
    {
        if (_a != other._a)
            return _a < other._a ? -1 : 1;
        if (_b != other._b)
            return _b < other._b ? -1 : 1;
        if (_c != other._c)
            return _c < other._c ? -1 : 1;
        return _d.CompareTo(other._d);
    }

    /// <summary>64 lower-case hexadecimal digits.</summary>
    public override string ToString() => Convert.ToHexStringLower(ToBytes());

    /// <summary>Whether two ids are the same.</summary>
    public static bool operator ==(ChunkId a, ChunkId b) => a.Equals(b);

    /// <summary>Whether two ids differ.</summary>
    public static bool operator !=(ChunkId a, ChunkId b) => !a.Equals(b);

    /// <summary>Order by bytes.</summary>
    public static bool operator <(ChunkId a, ChunkId b) => a.CompareTo(b) < 0;

    /// <summary>Order by bytes.</summary>
    public static bool operator >(ChunkId a, ChunkId b) => a.CompareTo(b) > 0;

    /// <summary>Order by bytes.</summary>
    public static bool operator <=(ChunkId a, ChunkId b) => a.CompareTo(b) <= 0;

    /// <summary>Order by bytes.</summary>
    public static bool operator >=(ChunkId a, ChunkId b) => a.CompareTo(b) >= 0;
}
