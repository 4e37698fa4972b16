using System.Buffers.Binary;
using Vembar.Native;

namespace Vembar.Volumes.Sources;

/// <summary>
/// The journal of an NTFS volume ($LogFile), as far as it tells whether it was closed. Its layout is that of the Linux kernel's
/// documentation of fs/ntfs3 and of ntfs-3g's logfile.h: two restart pages, of which the one with the higher number counts.
/// </summary>
public static class NtfsJournal
{
    private const ulong LogFile = 2;
    private const int Beginning = 64 << 10, Smallest = 512;
    private const ushort NoClient = 0xFFFF, VolumeIsClean = 2;

    /// <summary>Whether all that the journal of a volume holds was written to where it belongs.</summary>
    /// <exception cref="NativeException">It cannot be read.</exception>
    public static bool IsClean(NtfsVolume volume)
    {
        using var file = volume.Open(LogFile, "$LogFile");
        using var data = file.OpenData();
        var bytes = new byte[Math.Min(Beginning, data.Length)];
        return IsClean(bytes.AsSpan(0, data.Read(bytes, 0)));
    }

    /// <summary>Whether a journal was closed.</summary>
    /// <param name="beginning">Its first bytes, with both restart pages.</param>
    public static bool IsClean(ReadOnlySpan<byte> beginning)
    {
        // Emptied as formatting leaves it, or as whoever repairs a volume does.
        if (beginning.Length < Smallest || beginning.IndexOfAnyExcept((byte)0xFF) < 0)
            return true;
        var first = RestartPage(beginning, 0, out var pageLength);
        var second = pageLength > 0 ? RestartPage(beginning, pageLength, out _) : null;
        var newest = second is { } other && (first is not { } one || other.Number > one.Number) ? second : first;
        // Without any there is a journal that nothing can be said of.
        return newest is { } page && (page.Clients == NoClient || (page.Flags & VolumeIsClean) != 0);
    }

    private static (long Number, ushort Clients, ushort Flags)? RestartPage(ReadOnlySpan<byte> bytes, int at, out int pageLength)
    {
        const int AreaAt = 24, PageLengthAt = 16, ClientsAt = 12, FlagsAt = 14, AreaLength = 16;
        pageLength = 0;
        if (at > bytes.Length - Smallest || !(bytes[at..].StartsWith("RSTR"u8) || bytes[at..].StartsWith("CHKD"u8)))
            return null;
        var page = bytes[at..];
        var length = BinaryPrimitives.ReadUInt32LittleEndian(page[PageLengthAt..]);
        pageLength = length is >= Smallest and <= Beginning / 2 ? (int)length : 0;
        var area = (int)BinaryPrimitives.ReadUInt16LittleEndian(page[AreaAt..]);
        // In front of the last two bytes of its first sector, which stand elsewhere.
        if (area + AreaLength > Smallest - 2)
            return null;
        var restart = page[area..];
        return (BinaryPrimitives.ReadInt64LittleEndian(restart), BinaryPrimitives.ReadUInt16LittleEndian(restart[ClientsAt..]),
            BinaryPrimitives.ReadUInt16LittleEndian(restart[FlagsAt..]));
    }
}
