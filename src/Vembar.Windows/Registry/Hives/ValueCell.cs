using System.Buffers.Binary;
using Vembar.Common.Formats;

namespace Vembar.Windows.Registry.Hives;

/// <summary>A value's own cell ("vk"); data of up to four bytes is in it.</summary>
/// <remarks>Source: "Windows registry file format specification" (Suhanov), section "Key value".</remarks>
internal readonly ref struct ValueCell
{
    /// <summary>The length without the name.</summary>
    public const int HeadLength = 20;

    /// <summary>The longest name, in characters.</summary>
    public const int LongestName = 16_383;

    /// <summary>Data of up to so many bytes is in the cell.</summary>
    public const int LongestResident = 4;

    private const int NameLengthAt = 2, LengthAt = 4, DataAt = 8, TypeAt = 12, FlagsAt = 16;
    private const uint IsResidentFlag = 0x80000000;

    private readonly Span<byte> _bytes;

    private ValueCell(Span<byte> bytes) => _bytes = bytes;

    /// <summary>The value in a cell.</summary>
    /// <exception cref="BinaryFormatException">There is none.</exception>
    public static ValueCell At(HiveImage hive, int cell)
    {
        var bytes = hive.Cell(cell, HeadLength);
        if (!bytes.StartsWith("vk"u8))
            throw new BinaryFormatException("value", cell, "there is none");
        var value = new ValueCell(bytes);
        return value.NameLength <= bytes.Length - HeadLength ? value
            : throw new BinaryFormatException("value", cell, $"its name has {value.NameLength} bytes");
    }

    /// <summary>Makes a value of a cell; it has no data yet.</summary>
    public static ValueCell Make(Span<byte> bytes, string name)
    {
        bytes[..HeadLength].Clear();
        "vk"u8.CopyTo(bytes);
        var encoded = HiveText.Encode(name);
        encoded.CopyTo(bytes[HeadLength..]);
        BinaryPrimitives.WriteUInt16LittleEndian(bytes[NameLengthAt..], (ushort)encoded.Length);
        BinaryPrimitives.WriteUInt16LittleEndian(bytes[FlagsAt..], (ushort)(name.Length > 0 && HiveText.IsCompressible(name) ? 1 : 0));
        var made = new ValueCell(bytes);
        made.SetResident([]);
        return made;
    }

    private int NameLength => BinaryPrimitives.ReadUInt16LittleEndian(_bytes[NameLengthAt..]);

    private uint StoredLength => BinaryPrimitives.ReadUInt32LittleEndian(_bytes[LengthAt..]);

    /// <summary>Whether the name is stored in bytes.</summary>
    public bool IsCompressed => (_bytes[FlagsAt] & 1) != 0;

    /// <summary>The name as it is stored.</summary>
    public ReadOnlySpan<byte> StoredName => _bytes.Slice(HeadLength, NameLength);

    /// <summary>The name; empty for the default value.</summary>
    public string Name => HiveText.Decode(StoredName, IsCompressed);

    /// <summary>The type's number.</summary>
    public uint Type
    {
        get => BinaryPrimitives.ReadUInt32LittleEndian(_bytes[TypeAt..]);
        set => BinaryPrimitives.WriteUInt32LittleEndian(_bytes[TypeAt..], value);
    }

    /// <summary>Whether the data is in this cell.</summary>
    public bool IsResident => (StoredLength & IsResidentFlag) != 0;

    /// <summary>The length of the data in bytes.</summary>
    public int Length => (int)(StoredLength & ~IsResidentFlag);

    /// <summary>The cell that holds the data, or its list of segments; where it is not resident.</summary>
    public int Data => BinaryPrimitives.ReadInt32LittleEndian(_bytes[DataAt..]);

    /// <summary>Data in this cell.</summary>
    public ReadOnlySpan<byte> Resident => _bytes.Slice(DataAt, Math.Min(Length, LongestResident));

    /// <summary>Puts data of up to four bytes into this cell.</summary>
    public void SetResident(ReadOnlySpan<byte> data)
    {
        BinaryPrimitives.WriteUInt32LittleEndian(_bytes[LengthAt..], (uint)data.Length | IsResidentFlag);
        _bytes.Slice(DataAt, LongestResident).Clear();
        data.CopyTo(_bytes[DataAt..]);
    }

    /// <summary>Says where the data is.</summary>
    public void SetData(int cell, int length)
    {
        BinaryPrimitives.WriteInt32LittleEndian(_bytes[LengthAt..], length);
        BinaryPrimitives.WriteInt32LittleEndian(_bytes[DataAt..], cell);
    }
}
