using System.Globalization;
using System.Text;
using Vembar.Common;
using Vembar.Windows.Registry;

namespace Vembar.Windows.Servicing.Drivers;

/// <summary>Reads the lines of AddReg and DelReg sections.</summary>
/// <remarks>Source: the vendor's driver documentation, "INF AddReg directive" and "INF DelReg directive"; setupapi.h.</remarks>
public static class InfRegistry
{
    private const uint TypeMask = 0xFFFF0001, NoClobber = 0x2, DeleteValueFlag = 0x4, AppendFlag = 0x8, KeyOnly = 0x10,
        OverwriteOnly = 0x20, KeyOnlyCommon = 0x2000;
    private const uint TypeMultiString = 0x10000, TypeExpandString = 0x20000, TypeDword = 0x10001, TypeBinary = 0x1, TypeNone = 0x20001,
        TypeQword = 0xB0001, RemoveTextsFlag = TypeMultiString | NoClobber;

    private static readonly HashSet<string> s_roots = new(["HKR", "HKLM", "HKCR", "HKCU", "HKU"], StringComparer.OrdinalIgnoreCase);

    /// <summary>Reads a line of an AddReg section: root, subkey, name, flags, value.</summary>
    /// <exception cref="VembarException">It makes no sense; the message has section and line.</exception>
    public static RegistryEdit ReadAdd(InfFile inf, string section, InfLine line)
    {
        var (root, subkey, name, flags) = Head(inf, section, line);
        var data = line.Values.Skip(4).Select(inf.Expand).ToList();
        if ((flags & DeleteValueFlag) != 0 && (flags & TypeMask) == 0)
            return new RegistryEdit(root, subkey, name, name.Length > 0 ? RegistryEditKind.DeleteValue : RegistryEditKind.DeleteKey,
                RegistryType.None, []);
        if ((flags & (KeyOnly | KeyOnlyCommon)) != 0 || (line.Values.Count <= 2 && name.Length == 0))
            return new RegistryEdit(root, subkey, "", RegistryEditKind.MakeKey, RegistryType.None, []);
        var (type, bytes) = Data(flags & TypeMask, data, problem => inf.Error(section, line, problem));
        var kind = (flags & AppendFlag) != 0 && type == RegistryType.MultiString ? RegistryEditKind.Append
            : (flags & NoClobber) != 0 ? RegistryEditKind.SetIfMissing
            : (flags & OverwriteOnly) != 0 ? RegistryEditKind.SetIfThere : RegistryEditKind.Set;
        return new RegistryEdit(root, subkey, name, kind, type, bytes);
    }

    /// <summary>Reads a line of a DelReg section: root, subkey, name, flags, value.</summary>
    /// <exception cref="VembarException">It makes no sense; the message has section and line.</exception>
    public static RegistryEdit ReadDelete(InfFile inf, string section, InfLine line)
    {
        var (root, subkey, name, flags) = Head(inf, section, line);
        if ((flags & RemoveTextsFlag) == RemoveTextsFlag)
            return new RegistryEdit(root, subkey, name, RegistryEditKind.RemoveTexts, RegistryType.MultiString,
                Texts(line.Values.Skip(4).Select(inf.Expand)));
        return new RegistryEdit(root, subkey, name, name.Length > 0 ? RegistryEditKind.DeleteValue : RegistryEditKind.DeleteKey,
            RegistryType.None, []);
    }

    private static (string Root, string Subkey, string Name, uint Flags) Head(InfFile inf, string section, InfLine line)
    {
        var root = inf.Expand(line.Value(0)).ToUpperInvariant();
        if (!s_roots.Contains(root))
            throw inf.Error(section, line, $"'{root}' is not a root key (HKR, HKLM, HKCR, HKCU, HKU)");
        var text = inf.Expand(line.Value(3));
        var flags = text.Trim().Length == 0 ? 0 : Number(text) ?? throw inf.Error(section, line, $"the flags '{text}' are not a number");
        return (root, inf.Expand(line.Value(1)).Trim('\\'), inf.Expand(line.Value(2)), flags);
    }

    private static byte[] Texts(IEnumerable<string> texts) =>
        Encoding.Unicode.GetBytes(string.Concat(texts.Where(t => t.Length > 0).Select(t => t + "\0")) + "\0");

    private static (RegistryType, byte[]) Data(uint type, List<string> data, Func<string, VembarException> wrong)
    {
        var first = data.Count > 0 ? data[0] : "";
        byte[] Bytes() => [.. data.Where(d => d.Length > 0).SelectMany(d => Hex(d) ?? throw wrong($"'{d}' is not a byte"))];
        switch (type)
        {
            case TypeMultiString:
                return (RegistryType.MultiString, Texts(data));
            case TypeExpandString:
                return (RegistryType.ExpandString, Encoding.Unicode.GetBytes(first + "\0"));
            case TypeDword:
                return (RegistryType.Dword, data.Count == sizeof(uint) ? Bytes()
                    : BitConverter.GetBytes(first.Length == 0 ? 0 : Number(first) ?? throw wrong($"'{first}' is not a number of 32 bits")));
            case TypeQword:
                return (RegistryType.Qword, data.Count == sizeof(ulong) ? Bytes()
                    : BitConverter.GetBytes(Long(first) ?? throw wrong($"'{first}' is not a number of 64 bits")));
            case TypeBinary:
                return (RegistryType.Binary, Bytes());
            case TypeNone:
                return (RegistryType.None, Bytes());
            case 0:
                return (RegistryType.String, Encoding.Unicode.GetBytes(first + "\0"));
            default:
                // The upper half is the type itself, and bytes are given.
                return (type & TypeBinary) != 0 ? ((RegistryType)(type >> 16), Bytes())
                    : throw wrong(string.Create(CultureInfo.InvariantCulture, $"0x{type:X8} is not a type of value"));
        }
    }

    // One byte, or several written together.
    private static byte[]? Hex(string text)
    {
        text = text.Trim();
        if (text.StartsWith("0x", StringComparison.OrdinalIgnoreCase))
            text = text[2..];
        if (text.Length % 2 != 0)
            text = "0" + text;
        return text.All(char.IsAsciiHexDigit) ? Convert.FromHexString(text) : null;
    }

    private static ulong? Long(string text) => text.StartsWith("0x", StringComparison.OrdinalIgnoreCase)
        ? ulong.TryParse(text.AsSpan(2), NumberStyles.HexNumber, CultureInfo.InvariantCulture, out var hex) ? hex : null
        : ulong.TryParse(text, CultureInfo.InvariantCulture, out var number) ? number : null;

    /// <summary>A number as INF files write it: decimal, with a sign or not, or 0x and hexadecimal; null when it is none of 32
    /// bits.</summary>
    public static uint? Number(string text)
    {
        text = text.Trim();
        if (text.StartsWith("0x", StringComparison.OrdinalIgnoreCase))
            return uint.TryParse(text.AsSpan(2), NumberStyles.HexNumber, CultureInfo.InvariantCulture, out var hex) ? hex : null;
        if (uint.TryParse(text, CultureInfo.InvariantCulture, out var number))
            return number;
        return int.TryParse(text, CultureInfo.InvariantCulture, out var signed) ? (uint)signed : null;
    }
}
