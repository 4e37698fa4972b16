using System.Buffers.Binary;
using Vembar.Common.Formats;

namespace Vembar.Windows.Registry.Hives;

/// <summary>A security descriptor that keys share ("sk"); all of a hive are in a ring.</summary>
/// <remarks>Source: "Windows registry file format specification" (Suhanov), section "Key security".</remarks>
internal readonly ref struct SecurityCell
{
    /// <summary>The length without the descriptor.</summary>
    public const int HeadLength = 20;

    private const int NextAt = 4, BeforeAt = 8, UsersAt = 12, LengthAt = 16;

    private readonly Span<byte> _bytes;

    private SecurityCell(Span<byte> bytes) => _bytes = bytes;

    /// <summary>The descriptor in a cell.</summary>
    /// <exception cref="BinaryFormatException">There is none.</exception>
    public static SecurityCell At(HiveImage hive, int cell)
    {
        var bytes = hive.Cell(cell, HeadLength);
        if (!bytes.StartsWith("sk"u8))
            throw new BinaryFormatException("security descriptor", cell, "there is none");
        return BinaryPrimitives.ReadUInt32LittleEndian(bytes[LengthAt..]) <= bytes.Length - HeadLength ? new SecurityCell(bytes)
            : throw new BinaryFormatException("security descriptor", cell, "it is longer than its cell");
    }

    /// <summary>Makes a descriptor of a cell; it is alone in its ring, and has no users yet.</summary>
    public static SecurityCell Make(Span<byte> bytes, int cell, ReadOnlySpan<byte> descriptor)
    {
        bytes.Clear();
        "sk"u8.CopyTo(bytes);
        BinaryPrimitives.WriteInt32LittleEndian(bytes[LengthAt..], descriptor.Length);
        descriptor.CopyTo(bytes[HeadLength..]);
        return new SecurityCell(bytes) { Next = cell, Before = cell };
    }

    /// <summary>The next one in the ring.</summary>
    public int Next
    {
        get => BinaryPrimitives.ReadInt32LittleEndian(_bytes[NextAt..]);
        set => BinaryPrimitives.WriteInt32LittleEndian(_bytes[NextAt..], value);
    }

    /// <summary>The one before it in the ring.</summary>
    public int Before
    {
        get => BinaryPrimitives.ReadInt32LittleEndian(_bytes[BeforeAt..]);
        set => BinaryPrimitives.WriteInt32LittleEndian(_bytes[BeforeAt..], value);
    }

    /// <summary>How many keys have it.</summary>
    public int Users
    {
        get => BinaryPrimitives.ReadInt32LittleEndian(_bytes[UsersAt..]);
        set => BinaryPrimitives.WriteInt32LittleEndian(_bytes[UsersAt..], value);
    }

    /// <summary>The descriptor, self-relative.</summary>
    public ReadOnlySpan<byte> Descriptor => _bytes.Slice(HeadLength, BinaryPrimitives.ReadInt32LittleEndian(_bytes[LengthAt..]));
}
