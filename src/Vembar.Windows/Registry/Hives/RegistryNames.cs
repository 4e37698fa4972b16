namespace Vembar.Windows.Registry.Hives;

/// <summary>How Windows compares the names of keys and values: without case, unit by unit, by a table that is as old as the
/// format.</summary>
/// <remarks>
/// The table is that of NTFS volumes ($UpCase), with which a test compares it. .NET knows letters that were given capitals since; these
/// stay
/// as they are.
/// </remarks>
public static class RegistryNames
{
    private const string LeftAlone =
        "\u00B5\u019B\u01C5\u01C8\u01CB\u01F2\u023F\u0240\u0252\u025C\u0261\u0264\u0265\u0266\u026A\u026C\u0282\u0287\u029D\u029E" +
        "\u0345\u03C2\u03D0\u03D1\u03D5\u03D6" +
        "\u03F0\u03F1\u03F3\u03F5\u1D8E\u1E9B\u1FBE\u2C5F\u2D27\u2D2D\uA661\uA699\uA69B";

    private static readonly (char First, char Last)[] s_leftAlone =
        [('\u0525', '\u052F'), ('\u10D0', '\u10FF'), ('\u13F8', '\u13FD'), ('\u1C80', '\u1C8A'), ('\u2CEC', '\u2CF3'),
        ('\uA791', '\uA7F6'), ('\uAB53', '\uABBF')];

    private static readonly char[] s_upper = MakeTable();

    private static char[] MakeTable()
    {
        var table = new char[char.MaxValue + 1];
        for (var i = 0; i < table.Length; i++)
            table[i] = char.ToUpperInvariant((char)i);
        foreach (var single in LeftAlone)
            table[single] = single;
        foreach (var (first, last) in s_leftAlone)
        {
            for (var c = first; c <= last; c++)
                table[c] = c;
        }
        return table;
    }

    /// <summary>A unit of UTF-16 in upper case.</summary>
    public static char Upper(char unit) => s_upper[unit];
}
