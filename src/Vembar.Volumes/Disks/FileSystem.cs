using System.Buffers.Binary;
using System.Text;
using Vembar.Common;
using Vembar.Native;

namespace Vembar.Volumes.Disks;

/// <summary>What a partition is formatted with, as its first bytes say.</summary>
/// <param name="Kind">"ntfs", "fat12", "fat16", "fat32", "exfat", "ext2/3/4", "encrypted", "swap" or "unknown".</param>
/// <param name="Label">Its label; may be empty.</param>
/// <param name="Used">Bytes in use; null where that is not known.</param>
public sealed record FileSystem(string Kind, string Label, long? Used)
{
    /// <summary>NTFS.</summary>
    public const string Ntfs = "ntfs";
    /// <summary>None that is known here.</summary>
    public const string Unknown = "unknown";
    /// <summary>Encrypted as a whole: nothing of it can be read.</summary>
    public const string Encrypted = "encrypted";

    private const int SectorLength = 512;

    /// <summary>Whether a sector is the first one of a file system, not a partition table.</summary>
    internal static bool HasBootSector(ReadOnlySpan<byte> sector) => KindOf(sector) is not null;

    private static string? KindOf(ReadOnlySpan<byte> sector)
    {
        if (sector[3..].StartsWith("NTFS    "u8))
            return Ntfs;
        if (sector[3..].StartsWith("-FVE-FS-"u8)
            || sector.StartsWith((ReadOnlySpan<byte>)[(byte)'L', (byte)'U', (byte)'K', (byte)'S', 0xBA, 0xBE]))
            return Encrypted;
        if (sector[3..].StartsWith("EXFAT   "u8))
            return "exfat";
        if (sector[82..].StartsWith("FAT32   "u8))
            return "fat32";
        if (sector[54..].StartsWith("FAT16   "u8))
            return "fat16";
        return sector[54..].StartsWith("FAT12   "u8) ? "fat12" : null;
    }

    /// <summary>Recognises what a volume is formatted with. Microsoft's FAT specification 1.03 and exFAT specification; ext4's layout from
    /// the kernel's documentation.</summary>
    /// <exception cref="VembarException">It cannot be read.</exception>
    public static FileSystem Probe(IBlockDevice volume)
    {
        try
        {
            var sector = new byte[SectorLength];
            if (volume.Read(sector, 0) < sector.Length)
                return new FileSystem(Unknown, "", null);
            return KindOf(sector) switch
            {
                Ntfs => OfNtfs(volume),
                Encrypted => new FileSystem(Encrypted, "", null),
                "exfat" => OfExFat(volume, sector),
                { } fat => OfFat(volume, sector, fat),
                null => OfOthers(volume),
            };
        }
        catch (Exception failure) when (VembarException.From(failure, "read", volume.DisplayName) is { } error)
        {
            throw error;
        }
    }

    private static FileSystem OfNtfs(IBlockDevice volume)
    {
        try
        {
            using var open = NtfsVolume.Open(volume, write: false, keepDevice: true);
            return new FileSystem(Ntfs, open.Label, open.Clusters * open.ClusterSize - open.FreeBytes());
        }
        catch (NativeException)
        {
            // It says that it is one; whoever wants to read it is told what is wrong.
            return new FileSystem(Ntfs, "", null);
        }
    }

    private static FileSystem OfFat(IBlockDevice volume, byte[] sector, string kind)
    {
        var isLarge = kind == "fat32";
        var label = Encoding.Latin1.GetString(sector, isLarge ? 71 : 43, 11).TrimEnd();
        long? used = null;
        int bytes = BinaryPrimitives.ReadUInt16LittleEndian(sector.AsSpan(11)), perCluster = sector[13];
        var info = new byte[SectorLength];
        if (isLarge && bytes >= SectorLength
            && volume.Read(info, (long)bytes * BinaryPrimitives.ReadUInt16LittleEndian(sector.AsSpan(48))) == info.Length
            && info.AsSpan().StartsWith("RRaA"u8)
            && BinaryPrimitives.ReadUInt32LittleEndian(info.AsSpan(488)) is var free and not uint.MaxValue)
            used = Math.Max(0, volume.Length - (long)free * bytes * perCluster);
        return new FileSystem(kind, label == "NO NAME" ? "" : label, used);
    }

    private static FileSystem OfExFat(IBlockDevice volume, byte[] sector)
    {
        const byte LabelEntry = 0x83;
        int sectorShift = sector[108], clusterShift = sector[109], percent = sector[112];
        var label = "";
        if (sectorShift is >= 9 and <= 12 && clusterShift <= 25 - sectorShift)
        {
            var heap = (long)BinaryPrimitives.ReadUInt32LittleEndian(sector.AsSpan(88)) << sectorShift;
            var root = heap + ((long)(BinaryPrimitives.ReadUInt32LittleEndian(sector.AsSpan(96)) - 2) << (sectorShift + clusterShift));
            var entries = new byte[32 * 16];
            var got = root > 0 && root < volume.Length ? volume.Read(entries, root) : 0;
            for (var at = 0; at + 32 <= got; at += 32)
            {
                if (entries[at] == LabelEntry && entries[at + 1] <= 11)
                    label = Encoding.Unicode.GetString(entries, at + 2, 2 * entries[at + 1]);
            }
        }
        return new FileSystem("exfat", label, percent <= 100 ? volume.Length / 100 * percent : null);
    }

    private static FileSystem OfOthers(IBlockDevice volume)
    {
        const int SuperAt = 1024, SwapAt = 4086;
        var super = new byte[1024];
        if (volume.Read(super, SuperAt) == super.Length && BinaryPrimitives.ReadUInt16LittleEndian(super.AsSpan(56)) == 0xEF53)
        {
            long blocks = BinaryPrimitives.ReadUInt32LittleEndian(super.AsSpan(4)),
                free = BinaryPrimitives.ReadUInt32LittleEndian(super.AsSpan(12));
            var shift = BinaryPrimitives.ReadUInt32LittleEndian(super.AsSpan(24));
            uint compatible = BinaryPrimitives.ReadUInt32LittleEndian(super.AsSpan(92)),
                incompatible = BinaryPrimitives.ReadUInt32LittleEndian(super.AsSpan(96));
            // A journal makes it ext3; extents, ext4.
            var kind = (incompatible & 0x40) != 0 ? "ext4" : (compatible & 4) != 0 ? "ext3" : "ext2";
            return new FileSystem(kind, Encoding.UTF8.GetString(super, 120, 16).TrimEnd('\0'),
                shift <= 6 && free <= blocks ? (blocks - free) * (1024L << (int)shift) : null);
        }
        var swap = new byte[10];
        return volume.Read(swap, SwapAt) == swap.Length && swap.AsSpan().SequenceEqual("SWAPSPACE2"u8) ? new FileSystem("swap", "", null)
            : new FileSystem(Unknown, "", null);
    }
}
