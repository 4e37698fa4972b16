using System.Buffers.Binary;
using Vembar.Common.Formats;

namespace Vembar.Windows.Registry.Hives;

/// <summary>Reads keys and values of a hive.</summary>
/// <remarks>
/// Source: "Windows registry file format specification" (Suhanov), sections "Subkeys list", "Key values list" and "Big data". Nothing is
/// taken for granted: lists end where their cells do, and none leads to more than the hive can hold.
/// </remarks>
internal static class HiveReader
{
    /// <summary>Data above this length is a list of segments of this length, from version 1.4 on.</summary>
    public const int SegmentLength = 16_344;

    /// <summary>The first version with such lists (behind the point).</summary>
    public const int FirstWithSegments = 4;

    /// <summary>The keys below a key, in the order of its list.</summary>
    /// <exception cref="BinaryFormatException">The list is damaged.</exception>
    public static List<int> Subkeys(HiveImage hive, int key)
    {
        var cell = KeyCell.At(hive, key);
        var found = new List<int>();
        if (cell.SubkeyList != HiveImage.None && cell.Subkeys != 0)
            AddSubkeys(hive, cell.SubkeyList, found, isInner: false);
        CheckBelow(hive, key, found);
        return found;
    }

    /// <summary>The keys below a key that are sound, whatever of their list is not.</summary>
    public static List<int> SoundSubkeys(HiveImage hive, int key)
    {
        var found = new List<int>();
        try
        {
            if (KeyCell.At(hive, key) is { SubkeyList: not HiveImage.None and var list })
                AddSubkeys(hive, list, found, isInner: false);
        }
        catch (BinaryFormatException)
        {
            // As far as that.
        }
        // Only those that say that they are below it: so nobody is led in a circle.
        return [.. found.Distinct().Where(cell => IsBelow(hive, cell, key))];
    }

    private static bool IsBelow(HiveImage hive, int cell, int key)
    {
        try
        {
            return KeyCell.At(hive, cell).Parent == key;
        }
        catch (BinaryFormatException)
        {
            return false;
        }
    }

    // Each key has one place: whoever goes down from key to key comes to an end, and meets none twice.
    private static void CheckBelow(HiveImage hive, int key, List<int> found)
    {
        var isRising = true;
        for (var i = 0; i < found.Count; i++)
        {
            if (KeyCell.At(hive, found[i]).Parent != key)
                throw new BinaryFormatException("key", found[i], "it says that it is below another key than it is");
            isRising &= i == 0 || found[i] > found[i - 1];
        }
        if (!isRising && new HashSet<int>(found).Count < found.Count)
            throw new BinaryFormatException("key", key, "a key is below it twice");
    }

    private static void AddSubkeys(HiveImage hive, int list, List<int> found, bool isInner)
    {
        var leaf = SubkeyLeaf.At(hive, list);
        if (found.Count + (long)leaf.Count > hive.Length / KeyCell.HeadLength)
            throw new BinaryFormatException("list of keys", list, "it has more keys than the hive has room for");
        for (var i = 0; i < leaf.Count; i++)
        {
            if (!leaf.IsIndex)
                found.Add(leaf[i]);
            else if (isInner)
                throw new BinaryFormatException("list of keys", list, "it is a list of lists of lists");
            else
                AddSubkeys(hive, leaf[i], found, isInner: true);
        }
    }

    /// <summary>The key of a name below a key; <see cref="HiveImage.None"/> when there is none.</summary>
    /// <param name="hive">The hive.</param>
    /// <param name="key">The key.</param>
    /// <param name="name">The name, in upper case.</param>
    /// <exception cref="BinaryFormatException">The list is damaged.</exception>
    public static int FindSubkey(HiveImage hive, int key, ReadOnlySpan<char> name)
    {
        var cell = KeyCell.At(hive, key);
        if (cell.SubkeyList == HiveImage.None || cell.Subkeys == 0)
            return HiveImage.None;
        var top = SubkeyLeaf.At(hive, cell.SubkeyList);
        if (!top.IsIndex)
            return FindIn(hive, top, name);
        // The first list whose last name is not below the name has it; where lists are not in order, any may.
        int low = 0, high = top.Count;
        while (low < high)
        {
            var middle = (low + high) >>> 1;
            var inner = SubkeyLeaf.At(hive, top[middle]);
            if (inner.IsIndex || inner.Count == 0)
                break;
            (low, high) = Compare(hive, inner[inner.Count - 1], name) < 0 ? (middle + 1, high) : (low, middle);
        }
        if (low < top.Count && SubkeyLeaf.At(hive, top[low]) is { IsIndex: false } likely
            && FindIn(hive, likely, name) is not HiveImage.None and var found)
            return found;
        for (var i = 0; i < top.Count && !hive.IsInOrder; i++)
        {
            if (i == low)
                continue;
            var inner = SubkeyLeaf.At(hive, top[i]);
            if (inner.IsIndex)
                throw new BinaryFormatException("list of keys", top[i], "it is a list of lists of lists");
            if (FindByAll(hive, inner, name) is not HiveImage.None and var other)
                return other;
        }
        return HiveImage.None;
    }

    private static int FindIn(HiveImage hive, SubkeyLeaf leaf, ReadOnlySpan<char> name)
    {
        var at = Search(hive, leaf, name);
        return at >= 0 ? leaf[at] : hive.IsInOrder ? HiveImage.None : FindByAll(hive, leaf, name);
    }

    /// <summary>Looks for a name in a list that is in order.</summary>
    /// <returns>Its place; where it would be, inverted, when it is not there.</returns>
    public static int Search(HiveImage hive, SubkeyLeaf leaf, ReadOnlySpan<char> name)
    {
        int low = 0, high = leaf.Count;
        while (low < high)
        {
            var middle = (low + high) >>> 1;
            switch (Compare(hive, leaf[middle], name))
            {
                case 0:
                    return middle;
                case < 0:
                    low = middle + 1;
                    break;
                default:
                    high = middle;
                    break;
            }
        }
        return ~low;
    }

    // Another program may have sorted it in another way. The hashes tell all but a few apart.
    private static int FindByAll(HiveImage hive, SubkeyLeaf leaf, ReadOnlySpan<char> name)
    {
        var hash = leaf.IsHashed ? HiveText.Hash(name) : 0;
        for (var i = 0; i < leaf.Count; i++)
        {
            if ((!leaf.IsHashed || leaf.HashAt(i) == hash) && Compare(hive, leaf[i], name) == 0)
                return leaf[i];
        }
        return HiveImage.None;
    }

    /// <summary>Compares a key's name with one in upper case.</summary>
    public static int Compare(HiveImage hive, int key, ReadOnlySpan<char> name)
    {
        var cell = KeyCell.At(hive, key);
        return HiveText.Compare(cell.StoredName, cell.IsCompressed, name);
    }

    /// <summary>The cells of a key's values, in their order: numbers of 32 bits.</summary>
    /// <exception cref="BinaryFormatException">The list is damaged.</exception>
    public static Span<int> Values(HiveImage hive, int key)
    {
        var cell = KeyCell.At(hive, key);
        if (cell.Values == 0 || cell.ValueList == HiveImage.None)
            return [];
        var list = hive.Cell(cell.ValueList);
        if ((uint)cell.Values > (uint)list.Length / sizeof(int))
            throw new BinaryFormatException("list of values", cell.ValueList, $"it has no room for {(uint)cell.Values} values");
        return System.Runtime.InteropServices.MemoryMarshal.Cast<byte, int>(list)[..cell.Values];
    }

    /// <summary>The place of a value in its key's list; -1 when there is none of that name.</summary>
    /// <param name="hive">The hive.</param>
    /// <param name="values">The list.</param>
    /// <param name="name">The name, in upper case.</param>
    /// <exception cref="BinaryFormatException">A value is damaged.</exception>
    public static int IndexOf(HiveImage hive, ReadOnlySpan<int> values, ReadOnlySpan<char> name)
    {
        for (var i = 0; i < values.Length; i++)
        {
            var value = ValueCell.At(hive, values[i]);
            if (HiveText.Compare(value.StoredName, value.IsCompressed, name) == 0)
                return i;
        }
        return -1;
    }

    /// <summary>A value's data.</summary>
    /// <exception cref="BinaryFormatException">It is damaged.</exception>
    public static byte[] Data(HiveImage hive, int value)
    {
        var cell = ValueCell.At(hive, value);
        if (cell.IsResident)
            return cell.Length <= ValueCell.LongestResident ? cell.Resident.ToArray()
                : throw new BinaryFormatException("value", value, $"it tells {(uint)cell.Length} bytes in itself");
        if (cell.Length == 0)
            return [];
        var first = hive.Cell(cell.Data);
        if (IsSegmented(hive, cell, first))
            return Segments(hive, cell.Data, cell.Length);
        return cell.Length > 0 && cell.Length <= first.Length ? first[..cell.Length].ToArray()
            : throw new BinaryFormatException("value", value, $"it tells {(uint)cell.Length} bytes, its data has {first.Length}");
    }

    /// <summary>A value's data without a copy, where it lies in one piece.</summary>
    /// <exception cref="BinaryFormatException">It is damaged.</exception>
    public static bool TryPlainData(HiveImage hive, int value, out ReadOnlySpan<byte> data)
    {
        var cell = ValueCell.At(hive, value);
        data = [];
        if (cell.IsResident)
        {
            data = cell.Resident;
            return cell.Length <= ValueCell.LongestResident;
        }
        if (cell.Length == 0)
            return true;
        var first = hive.Cell(cell.Data);
        if (cell.Length < 0 || cell.Length > first.Length || IsSegmented(hive, cell, first))
            return false;
        data = first[..cell.Length];
        return true;
    }

    /// <summary>Whether data is the same as other data.</summary>
    /// <exception cref="BinaryFormatException">It is damaged.</exception>
    public static bool DataIs(HiveImage hive, int value, ReadOnlySpan<byte> data)
    {
        var cell = ValueCell.At(hive, value);
        if (cell.Length != data.Length)
            return false;
        if (cell.IsResident)
            return cell.Length <= ValueCell.LongestResident && cell.Resident.SequenceEqual(data);
        if (cell.Length == 0)
            return true;
        var first = hive.Cell(cell.Data);
        return !IsSegmented(hive, cell, first) && cell.Length <= first.Length ? first[..cell.Length].SequenceEqual(data)
            : Data(hive, value).AsSpan().SequenceEqual(data);
    }

    /// <summary>Whether a value's data is a list of segments. Some programs wrote long data in one cell, which Windows cannot read; it is
    /// read here.</summary>
    public static bool IsSegmented(HiveImage hive, ValueCell value, ReadOnlySpan<byte> data) =>
        hive.Minor >= FirstWithSegments && value.Length > SegmentLength && data.StartsWith("db"u8) && data.Length < value.Length;

    private static byte[] Segments(HiveImage hive, int head, int length)
    {
        var cells = SegmentList(hive, head, length);
        var data = new byte[length];
        for (var i = 0; i < cells.Length; i++)
        {
            var part = data.AsSpan(i * SegmentLength);
            part = part[..Math.Min(part.Length, SegmentLength)];
            hive.Cell(cells[i], part.Length)[..part.Length].CopyTo(part);
        }
        return data;
    }

    /// <summary>The cells of the segments of long data.</summary>
    /// <exception cref="BinaryFormatException">The list is damaged.</exception>
    public static Span<int> SegmentList(HiveImage hive, int head, int length)
    {
        const int HeadLength = 8;
        var bytes = hive.Cell(head, HeadLength);
        var count = BinaryPrimitives.ReadUInt16LittleEndian(bytes[2..]);
        var needed = (length - 1) / SegmentLength + 1;
        if (count != needed || length > hive.Length)
            throw new BinaryFormatException("long data", head, $"it has {count} segments where {needed} are needed");
        var list = hive.Cell(BinaryPrimitives.ReadInt32LittleEndian(bytes[4..]), count * sizeof(int));
        return System.Runtime.InteropServices.MemoryMarshal.Cast<byte, int>(list)[..count];
    }
}
