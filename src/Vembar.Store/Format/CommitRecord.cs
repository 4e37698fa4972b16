using System.Buffers.Binary;
using System.IO.Hashing;
using Vembar.Store.Hashing;
using Vembar.Store.Places;

namespace Vembar.Store.Format;

/// <summary>The record that makes a state of the archive valid; from format 2 on it is written twice. docs/archive-format.md, "Commit
/// record".</summary>
/// <param name="Archive">The archive's id.</param>
/// <param name="Sequence">0 for the first state.</param>
/// <param name="First">Where the first copy is; in format 1 the only one.</param>
/// <param name="Second">Where the second copy is; in format 1 the only one.</param>
/// <param name="Index">The index segment.</param>
/// <param name="Previous">Where the second copy of the record before this one is; 0 for none.</param>
/// <param name="PreviousFirst">Where the first copy of the record before this one is.</param>
/// <param name="Catalogue">The catalogue's chunk.</param>
/// <param name="Time">When it was made, UTC.</param>
internal sealed record CommitRecord(
    Guid Archive, long Sequence, long First, long Second, Extent Index, long Previous, long PreviousFirst, ChunkId Catalogue, DateTime Time)
{
    public const int Length = 192;

    /// <summary>Where the state ends in the file.</summary>
    public long End => Second + Length;

    private bool IsSingle => First == Second;

    private static ReadOnlySpan<byte> SingleMagic => "VMBCOMIT"u8;

    // Begins as a block does, so that no payload of format 2 holds it.
    private static ReadOnlySpan<byte> DoubleMagic => "VBLKSTAT"u8;

    /// <summary>Of which numbers the places of records are multiples. A record of format 2 never lies across two sectors of 512
    /// bytes.</summary>
    public static int AlignmentOf(ArchiveHeader header) => header.IsFirstFormat ? 64 : 256;

    public static ReadOnlySpan<byte> MagicOf(ArchiveHeader header) => header.IsFirstFormat ? SingleMagic : DoubleMagic;

    /// <summary>The next place at which a record of an archive may be.</summary>
    public static long Align(ArchiveHeader header, long offset) =>
        (offset + AlignmentOf(header) - 1) / AlignmentOf(header) * AlignmentOf(header);

    /// <summary>The bytes of one of the copies.</summary>
    /// <param name="own">Where it goes: <see cref="First"/> or <see cref="Second"/>.</param>
    public byte[] Encode(long own)
    {
        var data = new BinaryFormatWriter().Bytes(IsSingle ? SingleMagic : DoubleMagic).Bytes(Archive.ToByteArray(bigEndian: true))
            .UInt64((ulong)Sequence).UInt64((ulong)own)
            .UInt64((ulong)Index.Offset).UInt64((ulong)Index.Length).UInt64(Index.Checksum).UInt64((ulong)Previous).Id(Catalogue)
                .UInt64((ulong)Time.ToFileTimeUtc());
        if (!IsSingle)
            data.UInt64((ulong)First).UInt64((ulong)Second).UInt64((ulong)PreviousFirst);
        data.Bytes(new byte[Length - 8 - data.Written.Length]);
        return data.UInt64(XxHash3.HashToUInt64(data.Written)).Written.ToArray();
    }

    /// <returns>Null when there is no valid record of this archive at this place.</returns>
    public static CommitRecord? TryRead(ReadOnlySpan<byte> bytes, ArchiveHeader header, long offset)
    {
        var magic = MagicOf(header);
        if (bytes.Length < Length || !bytes.StartsWith(magic))
            return null;
        bytes = bytes[..Length];
        if (XxHash3.HashToUInt64(bytes[..^8]) != BinaryPrimitives.ReadUInt64LittleEndian(bytes[^8..]))
            return null;
        var reader = new BinaryFormatReader(bytes[..^8], "commit record");
        reader.Bytes(magic.Length);
        var id = new Guid(reader.Bytes(16), bigEndian: true);
        var sequence = reader.Int64();
        var own = reader.Int64();
        var index = new Extent(reader.Int64(), reader.Int64(), reader.UInt64());
        var previous = reader.Int64();
        var catalogue = reader.Id();
        var time = reader.Int64();
        var isSingle = header.IsFirstFormat;
        var first = isSingle ? own : reader.Int64();
        var second = isSingle ? own : reader.Int64();
        var previousFirst = isSingle ? previous : reader.Int64();
        var limit = isSingle ? offset : second;
        var sensible = id == header.Id && own == offset && (own == first || own == second) && sequence >= 0 && index.Offset > 0
            && index.Length > 0
            && limit > 0 && index.Offset <= limit - index.Length && previous >= 0 && previous < first && previousFirst >= 0
            && previousFirst <= previous
            && (isSingle || (first > 0 && first <= index.Offset - Length && first % AlignmentOf(header) == 0
            && second % AlignmentOf(header) == 0 && second <= long.MaxValue - Length))
            && time >= 0 && time <= DateTime.MaxValue.ToFileTimeUtc() && reader.Bytes(reader.Left).IndexOfAnyExcept((byte)0) < 0;
        return sensible
            ? new CommitRecord(id, sequence, first, second, index, previous, previousFirst, catalogue, DateTime.FromFileTimeUtc(time))
            : null;
    }

    /// <summary>Reads the record at a place of a file.</summary>
    /// <returns>Null when there is no valid one.</returns>
    public static CommitRecord? TryRead(IByteSource file, ArchiveHeader header, long offset)
    {
        Span<byte> bytes = stackalloc byte[Length];
        return offset > 0 && file.Read(bytes, offset) == Length ? TryRead(bytes, header, offset) : null;
    }

    /// <summary>The record of the state before this one, from either copy.</summary>
    /// <returns>Null when both are damaged.</returns>
    public CommitRecord? ReadPrevious(IByteSource file, ArchiveHeader header) =>
        TryRead(file, header, Previous) ?? TryRead(file, header, PreviousFirst);
}
