using System.Buffers.Binary;
using System.Runtime.InteropServices;

namespace Vembar.Native;

/// <summary>A record of a volume's file table as it stands there, without the library (NTFS documentation of the Linux-NTFS project, "FILE
/// record", "$FILE_NAME").</summary>
public readonly ref struct NtfsRecord
{
    private const int UpdatesAt = 4, FirstAttributeAt = 20, FlagsAt = 22, BaseAt = 32, NumberAt = 44, SequenceAt = 16, HeaderLength = 48;
    private const int AllocatedAt = 28, Stride = 512;
    private const uint FileName = 0x30, End = 0xFFFFFFFF;
    private const ulong NumberMask = 0xFFFF_FFFF_FFFF;
    private readonly ReadOnlySpan<byte> _bytes;

    private NtfsRecord(ReadOnlySpan<byte> bytes) => _bytes = bytes;

    /// <summary>How long records are, from the first one.</summary>
    /// <returns>0 when that is none.</returns>
    public static int LengthFrom(ReadOnlySpan<byte> first)
    {
        if (first.Length < HeaderLength || !first.StartsWith("FILE"u8))
            return 0;
        var length = BinaryPrimitives.ReadUInt32LittleEndian(first[AllocatedAt..]);
        return length is >= 512 and <= 65536 && uint.IsPow2(length) ? (int)length : 0;
    }

    /// <summary>Reads one.</summary>
    /// <param name="bytes">Its bytes as they stand on the disk; the ends of its sectors are put right in them.</param>
    /// <param name="record">The record.</param>
    /// <returns>False when there is none, it is not in use, or it was not written whole.</returns>
    public static bool TryRead(Span<byte> bytes, out NtfsRecord record)
    {
        record = new NtfsRecord(bytes);
        if (!bytes.StartsWith("FILE"u8) || (BinaryPrimitives.ReadUInt16LittleEndian(bytes[FlagsAt..]) & 1) == 0)
            return false;
        var at = BinaryPrimitives.ReadUInt16LittleEndian(bytes[UpdatesAt..]);
        var sectors = bytes.Length / Stride;
        if (BinaryPrimitives.ReadUInt16LittleEndian(bytes[(UpdatesAt + 2)..]) != sectors + 1 || at + 2 * (sectors + 1) > bytes.Length)
            return false;
        var mark = bytes.Slice(at, 2);
        for (var i = 1; i <= sectors; i++)
        {
            var end = bytes.Slice(i * Stride - 2, 2);
            if (!end.SequenceEqual(mark))
                return false;
            bytes.Slice(at + 2 * i, 2).CopyTo(end);
        }
        return true;
    }

    /// <summary>The number that the record says it has; null where its version says none.</summary>
    public uint? Number => BinaryPrimitives.ReadUInt16LittleEndian(_bytes[UpdatesAt..]) >= HeaderLength
        ? BinaryPrimitives.ReadUInt32LittleEndian(_bytes[NumberAt..]) : null;

    /// <summary>The number of the file that it continues; 0 for none.</summary>
    public ulong ContinuationOf => BinaryPrimitives.ReadUInt64LittleEndian(_bytes[BaseAt..]) & NumberMask;

    /// <summary>How often the number was used; a part of what refers to it.</summary>
    public ushort Sequence => BinaryPrimitives.ReadUInt16LittleEndian(_bytes[SequenceAt..]);

    /// <summary>The names in it that programs see, in their order: where the search goes on, the folder's number and the name.</summary>
    /// <param name="at">Where to go on; 0 at first.</param>
    /// <param name="parent">The folder's number.</param>
    /// <param name="name">The name, in UTF-16.</param>
    /// <returns>False when there is none any more.</returns>
    public bool NextName(ref int at, out ulong parent, out ReadOnlySpan<char> name)
    {
        const byte ShortOnly = 2;
        if (at == 0)
            at = BinaryPrimitives.ReadUInt16LittleEndian(_bytes[FirstAttributeAt..]);
        while (at + 24 <= _bytes.Length)
        {
            var attribute = _bytes[at..];
            var (type, length) = (BinaryPrimitives.ReadUInt32LittleEndian(attribute),
                BinaryPrimitives.ReadUInt32LittleEndian(attribute[4..]));
            if (type == End || length < 24 || length > attribute.Length)
                break;
            at += (int)length;
            int value = BinaryPrimitives.ReadUInt16LittleEndian(attribute[20..]);
            if (type != FileName || attribute[8] != 0 || value + 66 > length || value + 66 + 2 * attribute[value + 64] > length
                || attribute[value + 65] == ShortOnly)
                continue;
            parent = BinaryPrimitives.ReadUInt64LittleEndian(attribute[value..]) & NumberMask;
            name = MemoryMarshal.Cast<byte, char>(attribute.Slice(value + 66, 2 * attribute[value + 64]));
            return true;
        }
        at = _bytes.Length;
        parent = 0;
        name = default;
        return false;
    }
}
