using System.Buffers.Binary;
using System.Text;

namespace Vembar.Operations.Starters;

/// <summary>What a program or library of Linux says that it needs (System V ABI, "Object Files" and "Dynamic Linking").</summary>
/// <param name="Needed">Names of the libraries that are loaded with it.</param>
/// <param name="Interpreter">The program that loads it; empty for none.</param>
internal sealed record ElfFile(IReadOnlyList<string> Needed, string Interpreter)
{
    private const int HeaderLength = 64, SegmentLength = 56, Load = 1, Dynamic = 2, Interp = 3;

    /// <summary>Reads it; null for whatever is not a 64-bit little-endian one.</summary>
    public static ElfFile? Read(byte[] bytes)
    {
        if (bytes.Length < HeaderLength || !bytes.AsSpan().StartsWith("\u007fELF"u8) || bytes[4] != 2 || bytes[5] != 1)
            return null;
        var table = (long)U64(bytes, 32);
        var count = U16(bytes, 56);
        if (U16(bytes, 54) != SegmentLength || table < 0 || table + (long)count * SegmentLength > bytes.Length)
            return null;
        var segments = Enumerable.Range(0, count).Select(i => table + (long)i * SegmentLength).Select(at => (Type: U32(bytes, at),
            Offset: (long)U64(bytes, at + 8), Address: U64(bytes, at + 16), Length: (long)U64(bytes, at + 32)))
            .Where(s => s.Offset >= 0 && s.Length >= 0 && s.Offset <= bytes.Length - s.Length).ToList();
        var interpreter = segments.FirstOrDefault(s => s.Type == Interp) is { Length: > 0 } named ? Text(bytes, named.Offset) : "";
        var needed = new List<string>();
        if (segments.FirstOrDefault(s => s.Type == Dynamic) is not { Length: > 0 } dynamic)
            return new ElfFile(needed, interpreter);
        const ulong End = 0, Wanted = 1, Strings = 5;
        var entries = Enumerable.Range(0, (int)(dynamic.Length / 16)).Select(i => dynamic.Offset + i * 16L)
            .Select(at => (Tag: U64(bytes, at), Value: U64(bytes, at + 8))).TakeWhile(e => e.Tag != End).ToList();
        var strings = entries.FirstOrDefault(e => e.Tag == Strings).Value;
        // Addresses are of memory: the segment that holds one says where in the file it is.
        var holder = segments.FirstOrDefault(s => s.Type == Load && strings >= s.Address && strings < s.Address + (ulong)s.Length);
        if (holder.Length == 0)
            return new ElfFile(needed, interpreter);
        var start = holder.Offset + (long)(strings - holder.Address);
        needed.AddRange(entries.Where(e => e.Tag == Wanted && e.Value < (ulong)bytes.Length).Select(e => Text(bytes, start + (long)e.Value))
            .Where(n => n.Length > 0));
        return new ElfFile(needed, interpreter);
    }

    private static ushort U16(byte[] bytes, long at) => BinaryPrimitives.ReadUInt16LittleEndian(bytes.AsSpan((int)at));

    private static uint U32(byte[] bytes, long at) => BinaryPrimitives.ReadUInt32LittleEndian(bytes.AsSpan((int)at));

    private static ulong U64(byte[] bytes, long at) => BinaryPrimitives.ReadUInt64LittleEndian(bytes.AsSpan((int)at));

    private static string Text(byte[] bytes, long at)
    {
        if (at < 0 || at >= bytes.Length)
            return "";
        var rest = bytes.AsSpan((int)at);
        var end = rest.IndexOf((byte)0);
        return end < 0 ? "" : Encoding.UTF8.GetString(rest[..end]);
    }
}
