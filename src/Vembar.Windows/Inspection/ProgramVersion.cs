using System.Buffers.Binary;
using System.Globalization;

namespace Vembar.Windows.Inspection;

/// <summary>The version that a program file carries.</summary>
/// <remarks>Source: the vendor's "PE Format" (resources) and VS_FIXEDFILEINFO.</remarks>
public static class ProgramVersion
{
    private const uint FixedInfo = 0xFEEF04BD;
    private const int VersionResource = 16, SectionLength = 40, EntryLength = 8, DirectoryLength = 16, MostEntries = 4096;

    /// <summary>The file version; null where the file is no program or carries none.</summary>
    /// <param name="file">The whole file.</param>
    public static string? Of(byte[] file)
    {
        try
        {
            return Find(file);
        }
        catch (ArgumentOutOfRangeException)
        {
            // An offset leads out of the file.
            return null;
        }
    }

    private static string? Find(ReadOnlySpan<byte> file)
    {
        if (!file.StartsWith("MZ"u8))
            return null;
        var pe = Int(file, 0x3C);
        if (!file[pe..].StartsWith("PE\0\0"u8))
            return null;
        int sections = Short(file, pe + 6), optionalLength = Short(file, pe + 20);
        var optional = pe + 24;
        var directories = optional + (Short(file, optional) == 0x20B ? 112 : 96);
        var resources = Int(file, directories + 2 * EntryLength);
        for (var i = 0; i < sections; i++)
        {
            var section = optional + optionalLength + i * SectionLength;
            int address = Int(file, section + 12), length = Int(file, section + 16), at = Int(file, section + 20);
            if (resources >= address && resources < address + length)
                return Look(file, at + (resources - address), at - address);
        }
        return null;
    }

    // Type, name and language, one below the other; of each the first.
    private static string? Look(ReadOnlySpan<byte> file, int root, int shift)
    {
        var at = root;
        for (var level = 0; level < 3; level++)
        {
            var count = Math.Min(Short(file, at + 12) + Short(file, at + 14), MostEntries);
            var next = 0;
            for (var i = 0; i < count && next == 0; i++)
            {
                var entry = at + DirectoryLength + i * EntryLength;
                if (level > 0 || Int(file, entry) == VersionResource)
                    next = Int(file, entry + 4) & int.MaxValue;
            }
            if (next == 0)
                return null;
            at = root + next;
        }
        var data = file.Slice(Int(file, at) + shift, Int(file, at + 4));
        for (var i = 0; i + 16 <= data.Length; i += 4)
        {
            if (BinaryPrimitives.ReadUInt32LittleEndian(data[i..]) != FixedInfo)
                continue;
            return string.Create(CultureInfo.InvariantCulture,
                $"{Short(data, i + 10)}.{Short(data, i + 8)}.{Short(data, i + 14)}.{Short(data, i + 12)}");
        }
        return null;
    }

    private static int Int(ReadOnlySpan<byte> bytes, int at) =>
        at >= 0 ? BinaryPrimitives.ReadInt32LittleEndian(bytes[at..]) : throw new ArgumentOutOfRangeException(nameof(at));

    private static ushort Short(ReadOnlySpan<byte> bytes, int at) =>
        at >= 0 ? BinaryPrimitives.ReadUInt16LittleEndian(bytes[at..]) : throw new ArgumentOutOfRangeException(nameof(at));
}
