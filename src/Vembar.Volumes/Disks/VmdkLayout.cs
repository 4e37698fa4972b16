using System.Buffers.Binary;
using System.Globalization;
using System.Text;
using System.Text.RegularExpressions;
using Vembar.Common;

namespace Vembar.Volumes.Disks;

/// <summary>Where a VMDK has its grains, in one file or in several that a descriptor names ("Virtual Disk Format 5.0", the published
/// specification of the format).</summary>
internal static partial class VmdkLayout
{
    private const int Sector = 512, LongestDescriptor = 1 << 20, EntriesPerTable = 512, MostExtents = 4096;
    private const ulong AtTheEnd = ulong.MaxValue;
    private const uint HasSecondDirectory = 2, HasZeroEntries = 4, IsCompressed = 0x10000;

    [GeneratedRegex("""^\s*(?:RW|RDONLY|NOACCESS)\s+(\d{1,15})\s+(\w+)(?:\s+"([^"]*)"\s*(\d{0,15}))?""", RegexOptions.Multiline)]
    private static partial Regex Extents();

    [GeneratedRegex("""^\s*parentCID\s*=\s*([0-9a-fA-F]+)""", RegexOptions.Multiline)]
    private static partial Regex ParentId();

    [GeneratedRegex("""^\s*parentFileNameHint\s*=\s*"([^"]*)""", RegexOptions.Multiline)]
    private static partial Regex ParentName();

    public static void Read(ContainerFile file)
    {
        var head = file.Read(0, Math.Min(Sector, file.Length), "header");
        if (head.AsSpan().StartsWith("KDMV"u8))
            ReadSparse(file, 0, 0);
        else if (head.AsSpan().StartsWith("# Disk Desc"u8))
            ReadDescriptor(file);
        else
            throw file.Bad("this kind of VMDK is not supported");
    }

    private static void ReadDescriptor(ContainerFile file)
    {
        if (file.Length > LongestDescriptor)
            throw file.Bad("its descriptor is too long");
        var text = Encoding.UTF8.GetString(file.Read(0, file.Length, "descriptor"));
        FindParent(file, text);
        var extents = Extents().Matches(text);
        if (extents.Count is 0 or > MostExtents)
            throw file.Bad($"its descriptor names {extents.Count} files");
        var folder = Path.GetDirectoryName(Path.GetFullPath(file.Path))!;
        var start = 0L;
        foreach (Match extent in extents)
        {
            var length = long.Parse(extent.Groups[1].ValueSpan, CultureInfo.InvariantCulture) * Sector;
            var path = Path.Combine(folder, extent.Groups[3].Value);
            if (extent.Groups[2].Value is not "ZERO")
                ReadExtent(file, path, extent, start, length);
            start += length;
        }
        file.DiskLength = start;
    }

    private static void ReadExtent(ContainerFile file, string path, Match extent, long start, long length)
    {
        if (!File.Exists(path))
            throw VembarException.Input("extent-missing", $"cannot read the disk image '{file.Path}': its part '{path}' is missing",
                "Put all files of the disk image beside it.");
        using var device = FileDevice.Open(path, write: false);
        var part = new ContainerFile(device, path);
        if (extent.Groups[2].Value is "FLAT" or "VMFS")
        {
            var offset = extent.Groups[4].Length > 0 ? long.Parse(extent.Groups[4].ValueSpan, CultureInfo.InvariantCulture) * Sector : 0;
            part.NeedFlat(offset, length, "flat part");
        }
        else if (part.Read(0, 4, "header").AsSpan().SequenceEqual("KDMV"u8))
            ReadSparse(part, 0, 0);
        else
            throw part.Bad("this kind of VMDK is not supported");
        file.Include(part, start);
    }

    private static void FindParent(ContainerFile file, string text)
    {
        if (ParentId().Match(text) is { Success: true } id && !id.Groups[1].Value.Equals("ffffffff", StringComparison.OrdinalIgnoreCase))
            file.Backing = ParentName().Match(text) is { Success: true } name ? name.Groups[1].Value
                : throw file.Bad("it holds only what differs from a parent that it does not name");
    }

    private static void ReadSparse(ContainerFile file, long at, int turn)
    {
        var head = file.Read(at, Sector, "header");
        ulong Long(int place) => BinaryPrimitives.ReadUInt64LittleEndian(head.AsSpan(place));
        var directory = Long(56);
        if (directory == AtTheEnd)
        {
            // The header in front of the end marker counts.
            if (turn > 0 || file.Length < 3 * Sector || !file.Read(file.Length - 2 * Sector, 4, "footer").AsSpan().SequenceEqual("KDMV"u8))
                throw file.CutShort(file.Length + 2 * Sector, "footer");
            ReadSparse(file, file.Length - 2 * Sector, turn + 1);
            return;
        }
        if (head[72] != 0)
            file.Mark("it was not closed properly");
        var (capacity, grain, flags) = ((long)Long(12), (long)Long(20), BinaryPrimitives.ReadUInt32LittleEndian(head.AsSpan(8)));
        if (capacity is <= 0 or > 1L << 46 || grain is <= 0 or > 2048 || !long.IsPow2(grain)
            || BinaryPrimitives.ReadUInt32LittleEndian(head.AsSpan(44)) != EntriesPerTable)
            throw file.Bad($"{capacity} sectors in grains of {grain} are not known");
        file.DiskLength = capacity * Sector;
        if (Long(28) > 0 && Long(36) is > 0 and <= LongestDescriptor / Sector and var sectors)
            FindParent(file, Encoding.UTF8.GetString(file.Read((long)Long(28) * Sector, (long)sectors * Sector, "descriptor")));
        var grains = new Grains(file, grain, flags, (capacity + grain * EntriesPerTable - 1) / (grain * EntriesPerTable));
        grains.Walk(directory, isSecond: false);
        if (turn == 0 && (flags & HasSecondDirectory) != 0 && Long(48) > 0)
            grains.Walk(Long(48), isSecond: true);
    }

    /// <summary>A directory of tables of grains.</summary>
    private sealed class Grains(ContainerFile file, long grain, uint flags, long tables)
    {
        public void Walk(ulong directory, bool isSecond)
        {
            if (directory > long.MaxValue / Sector)
                throw file.Bad("its directory has an impossible place");
            var start = 0L;
            foreach (var table in file.ReadWords((long)directory * Sector, tables, isBigEndian: false, "directory of grains"))
            {
                if (table > 0 && !isSecond)
                    WalkTable((long)table * Sector, start);
                else if (table > 0)
                    file.Need((long)table * Sector + EntriesPerTable * sizeof(uint), "second table of grains");
                start += EntriesPerTable * grain * Sector;
            }
        }

        private void WalkTable(long at, long start)
        {
            if (at + EntriesPerTable * sizeof(uint) > file.Length)
            {
                file.Need(start, EntriesPerTable * grain * Sector, at + EntriesPerTable * sizeof(uint), "table of grains");
                return;
            }
            foreach (var entry in file.ReadWords(at, EntriesPerTable, isBigEndian: false, "table of grains"))
            {
                // 1 stands for zeros where the header says so.
                if (entry > 1 || (entry == 1 && (flags & HasZeroEntries) == 0))
                    file.Need(start, grain * Sector, EndOf(entry), "grain");
                start += grain * Sector;
            }
        }

        private long EndOf(uint entry)
        {
            const int MarkerLength = 12;
            var at = (long)entry * Sector;
            if ((flags & IsCompressed) == 0)
                return at + grain * Sector;
            return at + MarkerLength > file.Length ? at + MarkerLength
                : at + MarkerLength + BinaryPrimitives.ReadUInt32LittleEndian(file.Read(at, MarkerLength, "grain").AsSpan(8));
        }
    }
}
