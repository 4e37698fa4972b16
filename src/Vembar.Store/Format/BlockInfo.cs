using System.Buffers.Binary;
using System.IO.Hashing;
using Vembar.Store.Chunking;
using Vembar.Store.Compression;

namespace Vembar.Store.Format;

/// <summary>A block as the index knows it.</summary>
/// <param name="Offset">Where its header begins in the file.</param>
/// <param name="StoredLength">Bytes of its payload in the file.</param>
/// <param name="PlainLength">Bytes of its payload when expanded.</param>
/// <param name="ChunkCount">Chunks in it.</param>
/// <param name="Kind">What it holds.</param>
/// <param name="Codec">How.</param>
/// <param name="Checksum">XXH3-64 of the payload as stored.</param>
public readonly record struct BlockInfo(long Offset, int StoredLength, int PlainLength, int ChunkCount, BlockKind Kind, Codec Codec,
    ulong Checksum)
{
    internal const int HeaderLength = 40;

    /// <summary>No block is longer than this when expanded, whatever a file says.</summary>
    public const int LongestPlain = ChunkLimits.Longest;

    /// <summary>Where its payload begins in the file.</summary>
    public long PayloadOffset => Offset + HeaderLength + 4L * ChunkCount;

    /// <summary>The whole block's length in the file.</summary>
    public long WholeLength => HeaderLength + 4L * ChunkCount + StoredLength;

    internal static ReadOnlySpan<byte> Magic => "VBLK"u8;

    /// <summary>Whether its payload is veiled.</summary>
    internal bool IsVeiled => ((byte)Codec & Veil.Flag) != 0;

    /// <summary>How its payload is stored below a veil.</summary>
    internal Codec PlainCodec => (Codec)((byte)Codec & ~Veil.Flag);

    /// <summary>Whether its numbers can be those of a block at all.</summary>
    internal bool IsSensible =>
        Kind is >= BlockKind.Content and <= BlockKind.Record && ChunkCount is >= 0 and <= MostChunks
        && PlainLength is >= 0 and <= LongestPlain
        && StoredLength is >= 0 and <= LongestPlain
        && (PlainCodec != Codec.Stored || StoredLength == PlainLength + (IsVeiled ? Veil.KeyLength : 0));

    /// <summary>No block holds more chunks than this.</summary>
    internal const int MostChunks = 1 << 22;

    /// <summary>Reads a head without its chunks' lengths.</summary>
    /// <returns>Null when it does not begin as a block does, or its numbers make no sense.</returns>
    internal static BlockInfo? DecodeHeader(ReadOnlySpan<byte> head, long offset)
    {
        if (head.Length < HeaderLength || !head.StartsWith(Magic))
            return null;
        var info = new BlockInfo(
            offset, BinaryPrimitives.ReadInt32LittleEndian(head[16..]), BinaryPrimitives.ReadInt32LittleEndian(head[12..]),
            BinaryPrimitives.ReadInt32LittleEndian(head[8..]),
            (BlockKind)head[4], (Codec)head[5], BinaryPrimitives.ReadUInt64LittleEndian(head[24..]));
        return info.IsSensible && info.ChunkCount > 0 ? info : null;
    }

    /// <summary>Expands a payload that was read from the file.</summary>
    /// <param name="stored">The payload as it is in the file, its checksum not yet looked at; changed where it is veiled.</param>
    /// <param name="plain">Room for at least <see cref="PlainLength"/> bytes.</param>
    /// <returns>False when the checksum is wrong or it does not expand.</returns>
    internal bool TryExpand(Span<byte> stored, Span<byte> plain)
    {
        if (XxHash3.HashToUInt64(stored) != Checksum)
            return false;
        var below = IsVeiled ? Veil.Lift(stored) : stored;
        plain = plain[..PlainLength];
        if (PlainCodec == Codec.Stored)
        {
            if (below.Length != plain.Length)
                return false;
            below.CopyTo(plain);
            return true;
        }
        if (PlainCodec != Codec.Zstd)
            return false;
        var zstd = ZstdPool.Rent();
        try
        {
            return zstd.TryExpand(below, plain);
        }
        finally
        {
            ZstdPool.Return(zstd);
        }
    }

    internal void EncodeHeader(Span<byte> to, ReadOnlySpan<int> lengths)
    {
        to[..HeaderLength].Clear();
        Magic.CopyTo(to);
        to[4] = (byte)Kind;
        to[5] = (byte)Codec;
        BinaryPrimitives.WriteInt32LittleEndian(to[8..], ChunkCount);
        BinaryPrimitives.WriteInt32LittleEndian(to[12..], PlainLength);
        BinaryPrimitives.WriteInt32LittleEndian(to[16..], StoredLength);
        BinaryPrimitives.WriteUInt64LittleEndian(to[24..], Checksum);
        for (var i = 0; i < lengths.Length; i++)
            BinaryPrimitives.WriteInt32LittleEndian(to[(HeaderLength + 4 * i)..], lengths[i]);
        BinaryPrimitives.WriteUInt64LittleEndian(to[32..], HeaderChecksum(to[..(HeaderLength + 4 * lengths.Length)]));
    }

    // Covers everything in front of the payload but the checksum itself.
    internal static ulong HeaderChecksum(ReadOnlySpan<byte> head)
    {
        var hash = new XxHash3();
        hash.Append(head[..32]);
        hash.Append(head[HeaderLength..]);
        return hash.GetCurrentHashAsUInt64();
    }
}
