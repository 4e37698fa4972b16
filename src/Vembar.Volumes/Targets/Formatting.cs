using System.Globalization;
using Vembar.Native;
using Vembar.Volumes.Disks;

namespace Vembar.Volumes.Targets;

/// <summary>
/// Formats partitions with mkntfs(8) and mkfs.fat(8). Both work on a sparse file of the partition's size, of which then what
/// holds data is copied to the partition's place: so no program needs to reach into a disk image, nor to be root, and nothing is written to
/// the disk before all of it is known to be possible.
/// </summary>
public static class Formatting
{
    /// <summary>Makes a file of a partition's size, formatted with NTFS, empty.</summary>
    /// <param name="file">The file to make.</param>
    /// <param name="length">The partition's length in bytes.</param>
    /// <param name="partitionStart">Its first byte on the disk.</param>
    /// <param name="sector">Bytes of a sector, 512 or 4096.</param>
    /// <param name="label">Its label.</param>
    public static void Ntfs(string file, long length, long partitionStart, int sector, string label)
    {
        Make(file, length);
        // Heads and sectors as every BIOS counts them, the start as Windows looks for it in the boot sector: a field of 32 bits, which
        // nothing but a BIOS reads; beyond it, 0.
        var start = partitionStart / sector <= uint.MaxValue ? partitionStart / sector : 0;
        SystemTools.Run("mkntfs", "ntfs-3g", ["-F", "-Q", "-q", "-p", start.ToString(CultureInfo.InvariantCulture), "-H", "255", "-S",
            "63", "-s", sector.ToString(CultureInfo.InvariantCulture), "-c", ClusterOf(length).ToString(CultureInfo.InvariantCulture),
            "-L", label, file], "format with NTFS");
    }

    // As Windows chooses it: more than 2^32 - 1 clusters a volume cannot have (Microsoft, "Default cluster size for NTFS").
    private static int ClusterOf(long length)
    {
        const long Most = 16L << 40;
        var cluster = 4096;
        for (var max = Most; length > max; max *= 2)
            cluster *= 2;
        return cluster;
    }

    /// <summary>Makes a file of a partition's size, formatted with FAT32, with files in it.</summary>
    /// <param name="file">The file to make.</param>
    /// <param name="length">The partition's length in bytes.</param>
    /// <param name="partitionStart">Its first byte on the disk.</param>
    /// <param name="sector">Bytes of a sector, 512 or 4096.</param>
    /// <param name="label">Its label, up to 11 characters.</param>
    /// <param name="files">A folder whose content goes there.</param>
    public static void Fat(string file, long length, long partitionStart, int sector, string label, string files)
    {
        Make(file, length);
        var arguments = new List<string> { "-F", "32", "-S", sector.ToString(CultureInfo.InvariantCulture), "-h",
            (partitionStart / sector).ToString(CultureInfo.InvariantCulture) };
        if (label.Length > 0)
            arguments.AddRange(["-n", label.ToUpperInvariant()]);
        SystemTools.Run("mkfs.fat", "dosfstools", [.. arguments, file], "format with FAT32");
        var entries = Directory.EnumerateFileSystemEntries(files).Order(StringComparer.Ordinal).ToList();
        if (entries.Count > 0)
            SystemTools.Run("mcopy", "mtools", ["-Q", "-s", "-m", "-i", file, .. entries, "::/"],
                "put the boot files onto the EFI system partition");
    }

    private static void Make(string file, long length)
    {
        using var made = Posix.OpenFile(file, write: true, createNew: true);
        Posix.SetLength(made, length);
    }

    /// <summary>Copies what such a file holds to its partition.</summary>
    public static void CopyTo(IBlockDevice target, string path)
    {
        const int Step = 1 << 20;
        using var file = Posix.OpenFile(path, write: false);
        var buffer = new byte[Step];
        // What was on the disk before at the place of a hole must not show through where the file system looks.
        Erase(target);
        for (var at = 0L; at < target.Length;)
        {
            var (start, end) = Posix.NextData(file, at, target.Length);
            for (var offset = start; offset < end;)
            {
                var count = Posix.Read(file, buffer.AsSpan(0, (int)Math.Min(Step, end - offset)), offset);
                target.Write(buffer.AsSpan(0, count), offset);
                offset += count;
            }
            at = end;
        }
    }

    // The beginning and the end, where the marks of file systems are; the rest is written before it is read.
    private static void Erase(IBlockDevice target)
    {
        var zeros = new byte[1 << 20];
        target.Write(zeros.AsSpan(0, (int)Math.Min(zeros.Length, target.Length)), 0);
        target.Write(zeros.AsSpan(0, (int)Math.Min(zeros.Length, target.Length)), Math.Max(0, target.Length - zeros.Length));
    }
}
