using System.Buffers.Binary;
using System.IO.Hashing;
using Vembar.Core.Content;

namespace Vembar.Core.Archives;

/// <summary>What a block holds.</summary>
public enum BlockKind : byte
{
    /// <summary>Pieces of files.</summary>
    Content = 1,
    /// <summary>Folders, lists of chunks, security descriptors.</summary>
    Tree = 2,
    /// <summary>Image records and the catalogue.</summary>
    Record = 3,
}

/// <summary>How a block's bytes are stored.</summary>
public enum Codec : byte
{
    /// <summary>As they are.</summary>
    Stored = 0,
    /// <summary>One zstd frame.</summary>
    Zstd = 1,
}

/// <summary>An archive that another one is based on.</summary>
/// <param name="Id">Its id.</param>
/// <param name="Name">The file name that it had; where to look first.</param>
public sealed record BaseArchive(Guid Id, string Name);

/// <summary>The archive's first bytes. docs/archive-format.md, "Header".</summary>
/// <param name="Id">Tells this archive from all others.</param>
/// <param name="Sizes">Where content is cut.</param>
/// <param name="Bases">Archives whose content is not stored again in this one.</param>
public sealed record ArchiveHeader(Guid Id, ChunkSizes Sizes, IReadOnlyList<BaseArchive> Bases)
{
    private const ushort BaseSection = 1, RequiredFlag = 1;
    private const int LongestBaseName = 4096;

    internal const ushort Major = 1, Minor = 0;
    internal const int FixedLength = 52, SectionHead = 8, LongestLength = 1 << 20;
    private static ReadOnlySpan<byte> Magic => [0x89, (byte)'V', (byte)'M', (byte)'B', 0x0D, 0x0A, 0x1A, 0x0A];

    /// <summary>The header's length in the file, in bytes.</summary>
    public int Length { get; private init; } = FixedLength + 12 + Bases.Sum(b => SectionHead + BaseLength(b));

    internal byte[] Encode()
    {
        var data = new BinaryFormatWriter().Bytes(Magic).UInt16(Major).UInt16(Minor).UInt32((uint)Length).Bytes(Id.ToByteArray(bigEndian: true))
            .Byte(1).Byte(1).UInt16(0).UInt32((uint)Sizes.Smallest).UInt32((uint)Sizes.Average).UInt32((uint)Sizes.Largest).UInt32((uint)Bases.Count);
        foreach (var other in Bases)
        {
            data.UInt16(BaseSection).UInt16(RequiredFlag).UInt32((uint)BaseLength(other))
                .Bytes(other.Id.ToByteArray(bigEndian: true)).Bytes(System.Text.Encoding.UTF8.GetBytes(other.Name));
        }
        data.UInt32(0);
        return data.UInt64(XxHash3.HashToUInt64(data.Written)).Written.ToArray();
    }

    private static int BaseLength(BaseArchive other) => 16 + System.Text.Encoding.UTF8.GetByteCount(other.Name);

    /// <exception cref="VembarException">It is no archive, from a newer version, or damaged.</exception>
    internal static ArchiveHeader Read(IArchiveFile file, string path)
    {
        Span<byte> start = stackalloc byte[FixedLength];
        var got = file.Read(start, 0);
        if (got < Magic.Length || !start[..Magic.Length].SequenceEqual(Magic))
            throw VembarException.Input("not-an-archive", $"'{path}' is not a Vembar archive", "Name a .vmb file that `vembar capture` made.");
        if (got < FixedLength)
            throw VembarException.Damaged($"'{path}' is cut short: its header has {got} of {FixedLength} bytes", "Take it from another copy.");
        var reader = new BinaryFormatReader(start, "header");
        reader.Bytes(Magic.Length);
        var major = reader.UInt16();
        var minor = reader.UInt16();
        if (major > Major)
            throw VembarException.Input("newer-format", $"'{path}' has archive format {major}.{minor}; this Vembar reads up to {Major}.{Minor}", "Use a newer Vembar.");
        var length = reader.UInt32();
        if (length < FixedLength + 12 || length > LongestLength)
            throw VembarException.Damaged($"'{path}' has a damaged header (it says it is {length} bytes long)");
        var whole = new byte[length];
        if (file.Read(whole, 0) < whole.Length)
            throw VembarException.Damaged($"'{path}' is cut short within its header", "Take it from another copy.");
        if (XxHash3.HashToUInt64(whole.AsSpan(0, whole.Length - 8)) != BinaryPrimitives.ReadUInt64LittleEndian(whole.AsSpan(whole.Length - 8)))
            throw VembarException.Damaged($"'{path}' has a damaged header (its checksum does not match)", "Take it from another copy, or save what can be read with `vembar verify ARCHIVE --recover NEW.vmb`.");
        try
        {
            reader = new BinaryFormatReader(whole.AsSpan(0, whole.Length - 8), "header");
            reader.Bytes(16);
            var id = new Guid(reader.Bytes(16), bigEndian: true);
            if (reader.Byte() != 1 || reader.Byte() != 1)
                throw VembarException.Input("newer-format", $"'{path}' uses a hash or checksum that this Vembar does not know", "Use a newer Vembar.");
            reader.UInt16();
            var sizes = new ChunkSizes((int)reader.UInt32(), (int)reader.UInt32(), (int)reader.UInt32());
            if (!sizes.AreUsable)
                throw reader.Error("the chunk sizes make no sense");
            var bases = new List<BaseArchive>();
            var sections = reader.UInt32();
            for (var i = 0; i < sections; i++)
            {
                var type = reader.UInt16();
                var required = (reader.UInt16() & RequiredFlag) != 0;
                var bytes = reader.Bytes((int)Math.Min(reader.UInt32(), int.MaxValue));
                if (type == BaseSection)
                {
                    if (bytes.Length is < 17 or > 16 + LongestBaseName)
                        throw reader.Error("the section that names a base has no usable length");
                    // A name only: it never leads out of the folder that is looked in.
                    bases.Add(new BaseArchive(new Guid(bytes[..16], bigEndian: true), Path.GetFileName(System.Text.Encoding.UTF8.GetString(bytes[16..]))));
                }
                else if (required)
                    throw VembarException.Input("newer-format", $"'{path}' needs a feature (section {type}) that this Vembar does not know", "Use a newer Vembar.");
            }
            return new ArchiveHeader(id, sizes, bases) { Length = (int)length };
        }
        catch (BinaryFormatException problem)
        {
            throw VembarException.Damaged($"'{path}': {problem.Message}");
        }
    }
}

/// <summary>A stretch of the file with its checksum.</summary>
internal readonly record struct Extent(long Offset, long Length, ulong Checksum);

/// <summary>The record that makes a state of the archive valid. docs/archive-format.md, "Commit record".</summary>
internal sealed record CommitRecord(Guid Archive, long Sequence, long Offset, Extent Index, long Previous, ChunkId Catalogue, DateTime Time)
{
    public const int Length = 192;
    public const int Alignment = 64;
    public static ReadOnlySpan<byte> Magic => "VMBCOMIT"u8;

    public byte[] Encode()
    {
        var data = new BinaryFormatWriter().Bytes(Magic).Bytes(Archive.ToByteArray(bigEndian: true)).UInt64((ulong)Sequence).UInt64((ulong)Offset)
            .UInt64((ulong)Index.Offset).UInt64((ulong)Index.Length).UInt64(Index.Checksum).UInt64((ulong)Previous).Id(Catalogue).UInt64((ulong)Time.ToFileTimeUtc());
        data.Bytes(new byte[Length - 8 - data.Written.Length]);
        return data.UInt64(XxHash3.HashToUInt64(data.Written)).Written.ToArray();
    }

    /// <returns>Null when there is no valid record of this archive at this place.</returns>
    public static CommitRecord? TryRead(ReadOnlySpan<byte> bytes, Guid archive, long offset)
    {
        if (bytes.Length < Length || !bytes.StartsWith(Magic))
            return null;
        bytes = bytes[..Length];
        if (XxHash3.HashToUInt64(bytes[..^8]) != BinaryPrimitives.ReadUInt64LittleEndian(bytes[^8..]))
            return null;
        var reader = new BinaryFormatReader(bytes[..^8], "commit record");
        reader.Bytes(Magic.Length);
        var id = new Guid(reader.Bytes(16), bigEndian: true);
        var sequence = reader.Int64();
        var own = reader.Int64();
        var index = new Extent(reader.Int64(), reader.Int64(), reader.UInt64());
        var previous = reader.Int64();
        var catalogue = reader.Id();
        var time = reader.Int64();
        var sensible = id == archive && own == offset && sequence >= 0 && index.Offset > 0 && index.Length > 0 && index.Offset <= offset - index.Length
            && previous >= 0 && previous < offset && time >= 0 && time <= DateTime.MaxValue.ToFileTimeUtc() && reader.Bytes(reader.Left).IndexOfAnyExcept((byte)0) < 0;
        return sensible ? new CommitRecord(id, sequence, own, index, previous, catalogue, DateTime.FromFileTimeUtc(time)) : null;
    }
}

/// <summary>A block as the index knows it.</summary>
/// <param name="Offset">Where its header begins in the file.</param>
/// <param name="StoredLength">Bytes of its payload in the file.</param>
/// <param name="PlainLength">Bytes of its payload when expanded.</param>
/// <param name="ChunkCount">Chunks in it.</param>
/// <param name="Kind">What it holds.</param>
/// <param name="Codec">How.</param>
/// <param name="Checksum">XXH3-64 of the payload as stored.</param>
public readonly record struct BlockInfo(long Offset, int StoredLength, int PlainLength, int ChunkCount, BlockKind Kind, Codec Codec, ulong Checksum)
{
    internal const int HeaderLength = 40;

    /// <summary>No block is longer than this when expanded, whatever a file says.</summary>
    public const int LongestPlain = 256 << 20;

    /// <summary>Where its payload begins in the file.</summary>
    public long PayloadOffset => Offset + HeaderLength + 4L * ChunkCount;

    /// <summary>The whole block's length in the file.</summary>
    public long WholeLength => HeaderLength + 4L * ChunkCount + StoredLength;

    internal static ReadOnlySpan<byte> Magic => "VBLK"u8;

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
