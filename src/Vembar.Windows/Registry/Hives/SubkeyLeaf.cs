using System.Buffers.Binary;
using Vembar.Common.Formats;

namespace Vembar.Windows.Registry.Hives;

/// <summary>A list of keys ("lf", "lh", "li"), or of such lists ("ri").</summary>
/// <remarks>Source: "Windows registry file format specification" (Suhanov), section "Subkeys list".</remarks>
internal readonly ref struct SubkeyLeaf
{
    /// <summary>A list of keys is made no longer than this, so that it lies in one block with its hashes.</summary>
    public const int Most = 507;

    /// <summary>The length of the head.</summary>
    public const int HeadLength = 4;

    private readonly Span<byte> _bytes;
    private readonly int _step;

    private SubkeyLeaf(Span<byte> bytes, int step)
    {
        _bytes = bytes;
        _step = step;
    }

    /// <summary>The list in a cell.</summary>
    /// <exception cref="BinaryFormatException">There is none.</exception>
    public static SubkeyLeaf At(HiveImage hive, int cell)
    {
        var bytes = hive.Cell(cell, HeadLength);
        var step = bytes[0] != (byte)'l' ? bytes.StartsWith("ri"u8) ? 4 : 0
            : bytes[1] switch { (byte)'f' or (byte)'h' => 8, (byte)'i' => 4, _ => 0 };
        if (step == 0)
            throw new BinaryFormatException("list of keys", cell, "there is none");
        var list = new SubkeyLeaf(bytes, step);
        return list.Count <= list.Room ? list
            : throw new BinaryFormatException("list of keys", cell, $"it has no room for {list.Count} keys");
    }

    /// <summary>Makes a list of a cell; it is empty.</summary>
    /// <param name="bytes">The cell.</param>
    /// <param name="minor">The number behind the version's point: it decides what is kept beside each key.</param>
    public static void MakeLeaf(Span<byte> bytes, int minor)
    {
        const int FirstWithHashes = 5, FirstWithHints = 3;
        (minor >= FirstWithHashes ? "lh"u8 : minor >= FirstWithHints ? "lf"u8 : "li"u8).CopyTo(bytes);
        bytes[2..4].Clear();
    }

    /// <summary>Makes a list of lists of a cell; it is empty.</summary>
    public static void MakeIndex(Span<byte> bytes)
    {
        "ri"u8.CopyTo(bytes);
        bytes[2..4].Clear();
    }

    /// <summary>Whether it is a list of lists.</summary>
    public bool IsIndex => _bytes[0] == (byte)'r';

    /// <summary>Whether each key's name is hashed.</summary>
    public bool IsHashed => _bytes[1] == (byte)'h';

    /// <summary>Bytes that an entry takes.</summary>
    public int Step => _step;

    /// <summary>How many entries it has.</summary>
    public int Count => BinaryPrimitives.ReadUInt16LittleEndian(_bytes[2..]);

    /// <summary>How many entries its cell has room for.</summary>
    public int Room => Math.Min((_bytes.Length - HeadLength) / _step, ushort.MaxValue);

    /// <summary>The cell of an entry.</summary>
    public int this[int index] => BinaryPrimitives.ReadInt32LittleEndian(_bytes[(HeadLength + index * _step)..]);

    /// <summary>The hash of an entry's name.</summary>
    public uint HashAt(int index) => BinaryPrimitives.ReadUInt32LittleEndian(_bytes[(HeadLength + index * _step + 4)..]);

    /// <summary>Says what the hash of an entry's name is.</summary>
    public void SetHash(int index, uint hash) => BinaryPrimitives.WriteUInt32LittleEndian(_bytes[(HeadLength + index * _step + 4)..], hash);

    /// <summary>Says where an entry is now.</summary>
    public void Move(int index, int cell) => BinaryPrimitives.WriteInt32LittleEndian(_bytes[(HeadLength + index * _step)..], cell);

    /// <summary>Puts an entry in; there has to be room.</summary>
    /// <param name="index">Its place.</param>
    /// <param name="cell">Its cell.</param>
    /// <param name="name">The key's name; for a list of lists empty.</param>
    public void Insert(int index, int cell, string name)
    {
        var at = HeadLength + index * _step;
        _bytes[at..(HeadLength + Count * _step)].CopyTo(_bytes[(at + _step)..]);
        BinaryPrimitives.WriteInt32LittleEndian(_bytes[at..], cell);
        if (_step > sizeof(int))
            BinaryPrimitives.WriteUInt32LittleEndian(_bytes[(at + sizeof(int))..],
                IsHashed ? HiveText.Hash(HiveText.Upper(name)) : HiveText.Hint(name));
        BinaryPrimitives.WriteUInt16LittleEndian(_bytes[2..], (ushort)(Count + 1));
    }

    /// <summary>Takes an entry out.</summary>
    public void Remove(int index)
    {
        var (at, end) = (HeadLength + index * _step, HeadLength + Count * _step);
        _bytes[(at + _step)..end].CopyTo(_bytes[at..]);
        _bytes[(end - _step)..end].Clear();
        BinaryPrimitives.WriteUInt16LittleEndian(_bytes[2..], (ushort)(Count - 1));
    }

    /// <summary>Keeps the first entries and forgets the others.</summary>
    public void Cut(int count)
    {
        _bytes[(HeadLength + count * _step)..(HeadLength + Count * _step)].Clear();
        BinaryPrimitives.WriteUInt16LittleEndian(_bytes[2..], (ushort)count);
    }

    /// <summary>Entries as they are stored.</summary>
    public ReadOnlySpan<byte> Entries(int from, int count) => _bytes.Slice(HeadLength + from * _step, count * _step);

    /// <summary>Takes entries over as they are stored, behind those that are there; there has to be room.</summary>
    public void Append(ReadOnlySpan<byte> entries)
    {
        entries.CopyTo(_bytes[(HeadLength + Count * _step)..]);
        BinaryPrimitives.WriteUInt16LittleEndian(_bytes[2..], (ushort)(Count + entries.Length / _step));
    }

    /// <summary>The kind of list, as it is stored.</summary>
    public ReadOnlySpan<byte> Mark => _bytes[..2];
}
