using System.Text;

namespace Vembar.Windows.Registry.Hives;

/// <summary>Names of keys and values as they are stored, compared and hashed.</summary>
/// <remarks>Source: "Windows registry file format specification" (Suhanov), sections "Key node", "Key value", "Fast leaf" and "Hash
/// leaf".</remarks>
internal static class HiveText
{
    /// <summary>A name in upper case.</summary>
    public static char[] Upper(string name)
    {
        var upper = name.ToCharArray();
        for (var i = 0; i < upper.Length; i++)
            upper[i] = RegistryNames.Upper(upper[i]);
        return upper;
    }

    /// <summary>A stored name in upper case.</summary>
    /// <param name="stored">The name as it is stored.</param>
    /// <param name="isCompressed">Whether it is stored in bytes.</param>
    /// <param name="to">Gets it; as long as the stored name in bytes at least.</param>
    /// <returns>The name in it.</returns>
    public static ReadOnlySpan<char> Upper(ReadOnlySpan<byte> stored, bool isCompressed, Span<char> to)
    {
        var length = isCompressed ? stored.Length : stored.Length / 2;
        for (var i = 0; i < length; i++)
            to[i] = RegistryNames.Upper((char)(isCompressed ? stored[i] : stored[2 * i] | stored[2 * i + 1] << 8));
        return to[..length];
    }

    /// <summary>A stored name: bytes of the first 256 characters, or UTF-16.</summary>
    public static string Decode(ReadOnlySpan<byte> stored, bool isCompressed) =>
        (isCompressed ? Encoding.Latin1 : Encoding.Unicode).GetString(stored);

    /// <summary>Whether a name is stored in bytes.</summary>
    public static bool IsCompressible(string name) => !name.AsSpan().ContainsAnyExceptInRange('\0', '\u00FF');

    /// <summary>A name as it is stored.</summary>
    public static byte[] Encode(string name) => (IsCompressible(name) ? Encoding.Latin1 : Encoding.Unicode).GetBytes(name);

    /// <summary>Compares a stored name with one in upper case.</summary>
    /// <returns>Below zero when the stored one comes first.</returns>
    public static int Compare(ReadOnlySpan<byte> stored, bool isCompressed, ReadOnlySpan<char> upper)
    {
        var length = isCompressed ? stored.Length : stored.Length / 2;
        var common = Math.Min(length, upper.Length);
        for (var i = 0; i < common; i++)
        {
            var unit = RegistryNames.Upper((char)(isCompressed ? stored[i] : stored[2 * i] | stored[2 * i + 1] << 8));
            if (unit != upper[i])
                return unit - upper[i];
        }
        return length - upper.Length;
    }

    /// <summary>The hash that a hash leaf keeps of a name.</summary>
    public static uint Hash(ReadOnlySpan<char> upper)
    {
        var hash = 0u;
        foreach (var unit in upper)
            hash = hash * 37 + unit;
        return hash;
    }

    /// <summary>The beginning of a name that a fast leaf keeps: four characters, or nothing where they do not fit into bytes.</summary>
    public static uint Hint(string name)
    {
        var hint = 0u;
        for (var i = 0; i < Math.Min(name.Length, 4); i++)
        {
            if (name[i] > '\u00FF')
                return 0;
            hint |= (uint)name[i] << (8 * i);
        }
        return hint;
    }
}
