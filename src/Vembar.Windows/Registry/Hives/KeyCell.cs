using System.Buffers.Binary;
using Vembar.Common.Formats;

namespace Vembar.Windows.Registry.Hives;

/// <summary>A key's own cell ("nk").</summary>
/// <remarks>Source: "Windows registry file format specification" (Suhanov), section "Key node".</remarks>
internal readonly ref struct KeyCell
{
    /// <summary>The length without the name.</summary>
    public const int HeadLength = 76;

    /// <summary>The longest name, in characters.</summary>
    public const int LongestName = 255;

    /// <summary>Keys are at most that deep below the root.</summary>
    public const int Deepest = 512;

    /// <summary>The name is stored in bytes.</summary>
    public const int CompressedName = 0x20;

    /// <summary>The key stands for another one; it has no values of its own.</summary>
    public const int Predefined = 0x40;

    private const int FlagsAt = 2, TimeAt = 4, ParentAt = 16, SubkeysAt = 20, SubkeyListAt = 28, ValuesAt = 36, ValueListAt = 40,
        SecurityAt = 44, ClassAt = 48;
    private const int LongestSubkeyNameAt = 52, LongestValueNameAt = 60, LongestDataAt = 64, NameLengthAt = 72, ClassLengthAt = 74;

    private readonly Span<byte> _bytes;

    private KeyCell(Span<byte> bytes) => _bytes = bytes;

    /// <summary>The key in a cell.</summary>
    /// <exception cref="BinaryFormatException">There is none.</exception>
    public static KeyCell At(HiveImage hive, int cell)
    {
        var bytes = hive.Cell(cell, HeadLength);
        if (!bytes.StartsWith("nk"u8))
            throw new BinaryFormatException("key", cell, "there is none");
        var key = new KeyCell(bytes);
        return key.NameLength <= bytes.Length - HeadLength && key.NameLength > 0 ? key
            : throw new BinaryFormatException("key", cell, $"its name has {key.NameLength} bytes");
    }

    /// <summary>Makes a key of a cell.</summary>
    public static KeyCell Make(Span<byte> bytes, int parent, int security, string name, long time)
    {
        bytes[..HeadLength].Clear();
        "nk"u8.CopyTo(bytes);
        var encoded = HiveText.Encode(name);
        encoded.CopyTo(bytes[HeadLength..]);
        BinaryPrimitives.WriteUInt16LittleEndian(bytes[FlagsAt..], (ushort)(HiveText.IsCompressible(name) ? CompressedName : 0));
        BinaryPrimitives.WriteUInt16LittleEndian(bytes[NameLengthAt..], (ushort)encoded.Length);
        BinaryPrimitives.WriteInt32LittleEndian(bytes[32..], HiveImage.None);
        return new KeyCell(bytes)
        {
            Time = time,
            Parent = parent,
            Security = security,
            SubkeyList = HiveImage.None,
            ValueList = HiveImage.None,
            Class = HiveImage.None,
        };
    }

    private int I32(int at) => BinaryPrimitives.ReadInt32LittleEndian(_bytes[at..]);

    private ushort U16(int at) => BinaryPrimitives.ReadUInt16LittleEndian(_bytes[at..]);

    private void Put(int at, int value) => BinaryPrimitives.WriteInt32LittleEndian(_bytes[at..], value);

    /// <summary>Flags, as the format has them.</summary>
    public int Flags => U16(FlagsAt);

    /// <summary>Makes it a key without values and without keys below it.</summary>
    public void Reset(int parent)
    {
        const int VolatileSubkeysAt = 24, VolatileListAt = 32;
        Parent = parent;
        Subkeys = 0;
        SubkeyList = HiveImage.None;
        Put(VolatileSubkeysAt, 0);
        Put(VolatileListAt, HiveImage.None);
        // What stands for another key has neither; the fields are its own.
        if ((Flags & Predefined) != 0)
            return;
        Values = 0;
        ValueList = HiveImage.None;
    }

    /// <summary>When it was changed last, in 100 ns since 1601.</summary>
    public long Time
    {
        get => BinaryPrimitives.ReadInt64LittleEndian(_bytes[TimeAt..]);
        set => BinaryPrimitives.WriteInt64LittleEndian(_bytes[TimeAt..], value);
    }

    /// <summary>The key above it.</summary>
    public int Parent
    {
        get => I32(ParentAt);
        set => Put(ParentAt, value);
    }

    /// <summary>How many keys are below it.</summary>
    public int Subkeys
    {
        get => I32(SubkeysAt);
        set => Put(SubkeysAt, value);
    }

    /// <summary>The list of the keys below it.</summary>
    public int SubkeyList
    {
        get => I32(SubkeyListAt);
        set => Put(SubkeyListAt, value);
    }

    /// <summary>How many values it has.</summary>
    public int Values
    {
        get => (Flags & Predefined) != 0 ? 0 : I32(ValuesAt);
        set => Put(ValuesAt, value);
    }

    /// <summary>The list of its values.</summary>
    public int ValueList
    {
        get => (Flags & Predefined) != 0 ? HiveImage.None : I32(ValueListAt);
        set => Put(ValueListAt, value);
    }

    /// <summary>Its security descriptor's cell.</summary>
    public int Security
    {
        get => I32(SecurityAt);
        set => Put(SecurityAt, value);
    }

    /// <summary>The cell of its class name.</summary>
    public int Class
    {
        get => I32(ClassAt);
        set => Put(ClassAt, value);
    }

    /// <summary>The length of its class name in bytes.</summary>
    public int ClassLength => U16(ClassLengthAt);

    /// <summary>The longest name of a key below it, in bytes of UTF-16; the upper half of the field belongs to others.</summary>
    public int LongestSubkeyName
    {
        get => U16(LongestSubkeyNameAt);
        set => BinaryPrimitives.WriteUInt16LittleEndian(_bytes[LongestSubkeyNameAt..], (ushort)value);
    }

    /// <summary>The longest name of a value, in bytes of UTF-16.</summary>
    public int LongestValueName
    {
        get => I32(LongestValueNameAt);
        set => Put(LongestValueNameAt, value);
    }

    /// <summary>The longest data of a value, in bytes.</summary>
    public int LongestData
    {
        get => I32(LongestDataAt);
        set => Put(LongestDataAt, value);
    }

    private int NameLength => U16(NameLengthAt);

    /// <summary>Whether the name is stored in bytes.</summary>
    public bool IsCompressed => (Flags & CompressedName) != 0;

    /// <summary>The name as it is stored.</summary>
    public ReadOnlySpan<byte> StoredName => _bytes.Slice(HeadLength, NameLength);

    /// <summary>The name.</summary>
    public string Name => HiveText.Decode(StoredName, IsCompressed);

    /// <summary>The head as it is stored, for a copy.</summary>
    public ReadOnlySpan<byte> Head => _bytes[..HeadLength];
}
