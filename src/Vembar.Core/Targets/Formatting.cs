using System.Globalization;
using Vembar.Core.Disks;
using Vembar.Native;

namespace Vembar.Core.Targets;

/// <summary>
/// Formats partitions with mkntfs(8) and mkfs.fat(8). Both work on a sparse file of the partition's size, of which then what
/// holds data is copied to the partition's place: so no program needs to reach into a disk image, nor to be root.
/// </summary>
public static class Formatting
{
    /// <summary>Formats with NTFS, empty.</summary>
    /// <param name="target">The partition.</param>
    /// <param name="partitionStart">Its first byte on the disk.</param>
    /// <param name="sector">Bytes of a sector, 512 or 4096.</param>
    /// <param name="label">Its label.</param>
    /// <param name="scratch">A folder for the time being.</param>
    public static void Ntfs(IBlockDevice target, long partitionStart, int sector, string label, string scratch) => Through(target, scratch, file =>
    {
        // Heads and sectors as every BIOS counts them, the start as Windows looks for it in the boot sector.
        Tools.Run("mkntfs", "ntfs-3g", ["-F", "-Q", "-q", "-p", (partitionStart / sector).ToString(CultureInfo.InvariantCulture), "-H", "255", "-S", "63", "-s", sector.ToString(CultureInfo.InvariantCulture), "-c", "4096", "-L", label, file], "format with NTFS");
    });

    /// <summary>Formats with FAT32 and puts files there.</summary>
    /// <param name="target">The partition.</param>
    /// <param name="partitionStart">Its first byte on the disk.</param>
    /// <param name="sector">Bytes of a sector, 512 or 4096.</param>
    /// <param name="label">Its label, up to 11 characters.</param>
    /// <param name="files">A folder whose content goes there.</param>
    /// <param name="scratch">A folder for the time being.</param>
    public static void Fat(IBlockDevice target, long partitionStart, int sector, string label, string files, string scratch) => Through(target, scratch, file =>
    {
        var arguments = new List<string> { "-F", "32", "-S", sector.ToString(CultureInfo.InvariantCulture), "-h", (partitionStart / sector).ToString(CultureInfo.InvariantCulture) };
        if (label.Length > 0)
            arguments.AddRange(["-n", label.ToUpperInvariant()]);
        Tools.Run("mkfs.fat", "dosfstools", [.. arguments, file], "format with FAT32");
        var entries = Directory.EnumerateFileSystemEntries(files).Order(StringComparer.Ordinal).ToList();
        if (entries.Count > 0)
            Tools.Run("mcopy", "mtools", ["-Q", "-s", "-m", "-i", file, .. entries, "::/"], "put the boot files onto the EFI system partition");
    });

    private static void Through(IBlockDevice target, string scratch, Action<string> format)
    {
        const int Step = 1 << 20;
        var path = Path.Combine(scratch, $"format-{Guid.NewGuid():N}");
        try
        {
            using (var made = Posix.OpenFile(path, write: true, createNew: true))
                RandomAccess.SetLength(made, target.Length);
            format(path);
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
        finally
        {
            File.Delete(path);
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
