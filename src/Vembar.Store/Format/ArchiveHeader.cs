using System.Buffers.Binary;
using System.IO.Hashing;
using Vembar.Common;
using Vembar.Common.Formats;
using Vembar.Store.Chunking;
using Vembar.Store.Places;

namespace Vembar.Store.Format;

/// <summary>The archive's first bytes. docs/archive-format.md, "Header".</summary>
/// <param name="Id">Tells this archive from all others.</param>
/// <param name="Sizes">Where content is cut.</param>
/// <param name="Bases">Archives whose content is not stored again in this one.</param>
public sealed record ArchiveHeader(Guid Id, ChunkSizes Sizes, IReadOnlyList<BaseArchive> Bases)
{
    private const ushort BaseSection = 1, RequiredFlag = 1;
    private const int LongestBaseName = 4096;

    private const ushort NewestMajor = 2, Minor = 0;
    internal const int FixedLength = 52, SectionHead = 8, LongestLength = 1 << 20;
    private static ReadOnlySpan<byte> Magic => [0x89, (byte)'V', (byte)'M', (byte)'B', 0x0D, 0x0A, 0x1A, 0x0A];

    /// <summary>The format's major version: 2 for new archives; 1 for those made before, which are read and added to as they are.</summary>
    public int Major { get; private init; } = NewestMajor;

    /// <summary>Whether states are told by a single record and blocks may hold anything, as in format 1.</summary>
    internal bool IsFirstFormat => Major == 1;

    /// <summary>The header's length in the file, in bytes.</summary>
    public int Length { get; private init; } = FixedLength + 12 + Bases.Sum(b => SectionHead + BaseLength(b));

    internal byte[] Encode()
    {
        var data = new BinaryFormatWriter().Bytes(Magic).UInt16((ushort)Major).UInt16(Minor).UInt32((uint)Length)
            .Bytes(Id.ToByteArray(bigEndian: true))
            .Byte(1).Byte(1).UInt16(0).UInt32((uint)Sizes.Smallest).UInt32((uint)Sizes.Average).UInt32((uint)Sizes.Largest)
                .UInt32((uint)Bases.Count);
        foreach (var other in Bases)
        {
            data.UInt16(BaseSection).UInt16(RequiredFlag).UInt32((uint)BaseLength(other))
                .Bytes(other.Id.ToByteArray(bigEndian: true)).Bytes(System.Text.Encoding.UTF8.GetBytes(other.Name));
        }
        data.UInt32(0);
        return data.UInt64(XxHash3.HashToUInt64(data.Written)).Written.ToArray();
    }

    private static int BaseLength(BaseArchive other) => 16 + System.Text.Encoding.UTF8.GetByteCount(other.Name);

    /// <summary>Whether a file begins as an archive does.</summary>
    internal static bool IsOne(IByteSource file)
    {
        Span<byte> start = stackalloc byte[8];
        return file.Read(start, 0) == start.Length && start.SequenceEqual(Magic);
    }

    /// <exception cref="VembarException">It is no archive, from a newer version, or damaged.</exception>
    internal static ArchiveHeader Read(IByteSource file, string path)
    {
        Span<byte> start = stackalloc byte[FixedLength];
        var got = file.Read(start, 0);
        if (got < Magic.Length || !start[..Magic.Length].SequenceEqual(Magic))
            throw VembarException.Input("not-an-archive", $"'{path}' is not a Vembar archive",
                Advice.Of("not-an-archive"));
        if (got < FixedLength)
            throw VembarException.Damaged($"'{path}' is cut short: its header has {got} of {FixedLength} bytes",
                "Take it from another copy.");
        var reader = new BinaryFormatReader(start, "header");
        reader.Bytes(Magic.Length);
        var major = reader.UInt16();
        var minor = reader.UInt16();
        if (major is 0 or > NewestMajor)
            throw VembarException.Input("newer-format",
                $"'{path}' has archive format {major}.{minor}; this Vembar reads up to {NewestMajor}.{Minor}", "Use a newer Vembar.");
        var length = reader.UInt32();
        if (length < FixedLength + 12 || length > LongestLength)
            throw VembarException.Damaged($"'{path}' has a damaged header (it says it is {length} bytes long)");
        var whole = new byte[length];
        if (file.Read(whole, 0) < whole.Length)
            throw VembarException.Damaged($"'{path}' is cut short within its header", "Take it from another copy.");
        if (XxHash3.HashToUInt64(whole.AsSpan(0,
            whole.Length - 8)) != BinaryPrimitives.ReadUInt64LittleEndian(whole.AsSpan(whole.Length - 8)))
            throw VembarException.Damaged($"'{path}' has a damaged header (its checksum does not match)",
                Advice.Of("take-copy-or-recover"));
        try
        {
            reader = new BinaryFormatReader(whole.AsSpan(0, whole.Length - 8), "header");
            reader.Bytes(16);
            var id = new Guid(reader.Bytes(16), bigEndian: true);
            if (reader.Byte() != 1 || reader.Byte() != 1)
                throw VembarException.Input("newer-format", $"'{path}' uses a hash or checksum that this Vembar does not know",
                    "Use a newer Vembar.");
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
                    bases.Add(new BaseArchive(new Guid(bytes[..16], bigEndian: true),
                        Path.GetFileName(System.Text.Encoding.UTF8.GetString(bytes[16..]))));
                }
                else if (required)
                    throw VembarException.Input("newer-format",
                        $"'{path}' needs a feature (section {type}) that this Vembar does not know", "Use a newer Vembar.");
            }
            return new ArchiveHeader(id, sizes, bases) { Length = (int)length, Major = major };
        }
        catch (BinaryFormatException problem)
        {
            throw VembarException.Damaged($"'{path}': {problem.Message}");
        }
    }
}
