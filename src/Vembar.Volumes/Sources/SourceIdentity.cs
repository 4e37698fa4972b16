using System.Buffers.Binary;
using System.Globalization;
using Microsoft.Win32.SafeHandles;
using Vembar.Native;

namespace Vembar.Volumes.Sources;

/// <summary>What tells a folder from any other that has been at the same path: disks are mounted in turn, and file numbers are given
/// again.</summary>
internal static class SourceIdentity
{
    // statfs(2), "f_type".
    private const uint Ext = 0xEF53, Btrfs = 0x9123683E, Tmpfs = 0x01021994, F2fs = 0xF2F52010, Overlay = 0x794C7630, Zfs = 0x2FC12FC1,
        Xfs = 0x58465342, Ntfs3 = 0x7366746E, Msdos = 0x4D44, ExFat = 0x2011BAB0;

    /// <summary>The identity; empty when nothing certain tells it.</summary>
    public static string Of(SafeFileHandle folder)
    {
        var stat = Posix.Stat(folder);
        var (kind, number) = Posix.FileSystemOf(folder);
        // These give a number that is made of their own identity; others give the device's, which the next file system there has too.
        var own = kind is Ext or Btrfs or Tmpfs or F2fs or Overlay or Zfs && number != 0
            ? number.ToString("x", CultureInfo.InvariantCulture) : "";
        var disk = own.Length == 0 ? OfDisk(stat.Device) : "";
        // A file system that was just made may share whole seconds with another.
        var birth = Posix.BirthOf(folder) is { } time
            ? string.Create(CultureInfo.InvariantCulture, $"{time.Seconds:x}.{time.Nanoseconds:x}") : "";
        return own.Length + disk.Length == 0 && birth.EndsWith(".0", StringComparison.Ordinal)
            || own.Length + disk.Length + birth.Length == 0 ? ""
            : string.Create(CultureInfo.InvariantCulture, $"{stat.Inode:x}-{own}{disk}-{birth}");
    }

    /// <summary>Whether a folder's times are of this machine's clock: not where another machine or a program makes them.</summary>
    public static bool HasOurClock(SafeFileHandle folder) =>
        Posix.FileSystemOf(folder).Kind is Ext or Btrfs or Tmpfs or F2fs or Overlay or Zfs or Xfs or Ntfs3 or Msdos or ExFat;

    // The identity that is written on the disk that is mounted under a device number.
    private static string OfDisk(ulong device)
    {
        try
        {
            var (major, minor) = (device >> 32, device & 0xFFFFFFFF);
            var mark = string.Create(CultureInfo.InvariantCulture, $"{major}:{minor}");
            foreach (var line in File.ReadLines("/proc/self/mountinfo"))
            {
                // proc(5): the third field is the device, behind " - " come type and source.
                var fields = line.Split(' ');
                var rest = line.IndexOf(" - ", StringComparison.Ordinal);
                if (fields.Length > 2 && fields[2] == mark && rest > 0 && line[(rest + 3)..].Split(' ') is [_, var source, ..])
                    return OfDisk(source.Replace("\\040", " ", StringComparison.Ordinal));
            }
        }
        catch (Exception failure) when (failure is IOException or UnauthorizedAccessException)
        {
            // Then nothing is known of it.
        }
        return "";
    }

    private static string OfDisk(string path)
    {
        if (!path.StartsWith('/'))
            return "";
        using var file = Posix.OpenFile(path, write: false);
        var start = new byte[2048];
        if (Posix.Read(file, start, 0) < start.Length)
            return "";
        if (start.AsSpan(3).StartsWith("NTFS    "u8))
            return BinaryPrimitives.ReadUInt64LittleEndian(start.AsSpan(0x48)).ToString("x16", CultureInfo.InvariantCulture);
        if (start.AsSpan().StartsWith("XFSB"u8))
            return Convert.ToHexStringLower(start.AsSpan(32, 16));
        if (BinaryPrimitives.ReadUInt16LittleEndian(start.AsSpan(1024 + 56)) == Ext)
            return Convert.ToHexStringLower(start.AsSpan(1024 + 104, 16));
        if (start.AsSpan(3).StartsWith("EXFAT   "u8))
            return Convert.ToHexStringLower(start.AsSpan(100, 4));
        return start.AsSpan(82).StartsWith("FAT32   "u8) ? Convert.ToHexStringLower(start.AsSpan(67, 4)) : "";
    }
}
