using Vembar.Common.Formats;

namespace Vembar.Windows.Registry.Hives;

/// <summary>Compares keys of two hives.</summary>
internal static class HiveComparison
{
    /// <summary>Whether two keys have the same values and the same keys below them, whatever their order and times.</summary>
    /// <exception cref="BinaryFormatException">One of them is damaged.</exception>
    public static bool Same(HiveImage one, int key, HiveImage two, int other, int depth)
    {
        if (depth > KeyCell.Deepest)
            throw new BinaryFormatException("key", key, $"it is more than {KeyCell.Deepest} keys deep");
        if (!SameValues(one, HiveReader.Values(one, key), two, HiveReader.Values(two, other)))
            return false;
        var (keys, others) = (HiveReader.Subkeys(one, key), HiveReader.Subkeys(two, other));
        if (keys.Count != others.Count)
            return false;
        for (var i = 0; i < keys.Count; i++)
        {
            // Both lists are in the order of their names, as a rule.
            var match = others[i];
            if (!SameName(one, keys[i], two, match))
            {
                match = HiveReader.FindSubkey(two, other, HiveText.Upper(KeyCell.At(one, keys[i]).Name));
                if (match == HiveImage.None || !SameName(one, keys[i], two, match))
                    return false;
            }
            if (!Same(one, keys[i], two, match, depth + 1))
                return false;
        }
        return true;
    }

    /// <summary>Whether two keys have the same name, to the letter.</summary>
    /// <exception cref="BinaryFormatException">One of them is damaged.</exception>
    public static bool SameName(HiveImage one, int key, HiveImage two, int other)
    {
        var a = KeyCell.At(one, key);
        var b = KeyCell.At(two, other);
        return a.IsCompressed == b.IsCompressed ? a.StoredName.SequenceEqual(b.StoredName) : a.Name == b.Name;
    }

    /// <summary>Whether two lists have the same values, whatever their order.</summary>
    /// <exception cref="BinaryFormatException">One of them is damaged.</exception>
    public static bool SameValues(HiveImage one, ReadOnlySpan<int> values, HiveImage two, ReadOnlySpan<int> others)
    {
        if (values.Length != others.Length)
            return false;
        for (var i = 0; i < values.Length; i++)
        {
            if (SameValue(one, values[i], two, others[i]))
                continue;
            var at = HiveReader.IndexOf(two, others, HiveText.Upper(ValueCell.At(one, values[i]).Name));
            if (at < 0 || at == i || !SameValue(one, values[i], two, others[at]))
                return false;
        }
        return true;
    }

    private static bool SameValue(HiveImage one, int value, HiveImage two, int other)
    {
        var a = ValueCell.At(one, value);
        var b = ValueCell.At(two, other);
        if (a.Length != b.Length || a.Type != b.Type)
            return false;
        return (a.IsCompressed == b.IsCompressed ? a.StoredName.SequenceEqual(b.StoredName) : a.Name == b.Name)
            && SameData(one, value, two, other);
    }

    /// <summary>Whether two values have the same type and the same data.</summary>
    /// <exception cref="BinaryFormatException">One of them is damaged.</exception>
    public static bool SameData(HiveImage one, int value, HiveImage two, int other)
    {
        if (ValueCell.At(one, value).Type != ValueCell.At(two, other).Type)
            return false;
        return HiveReader.TryPlainData(one, value, out var data) ? HiveReader.DataIs(two, other, data)
            : HiveReader.DataIs(two, other, HiveReader.Data(one, value));
    }
}
