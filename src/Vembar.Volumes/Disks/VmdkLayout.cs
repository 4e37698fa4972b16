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
    private const long MostBytes = 1L << 55;
    private const string NoParent = "ffffffff";
    private const ulong AtTheEnd = ulong.MaxValue;
    private const uint HasSecondDirectory = 2, HasZeroEntries = 4, IsCompressed = 0x10000;

    [GeneratedRegex("""^\s*(?:RW|RDONLY|NOACCESS)\s+(\d{1,15})\s+(\w+)(?:\s+"([^"]*)"\s*(\d{0,15}))?""", RegexOptions.Multiline)]
    private static partial Regex Extents();

    [GeneratedRegex("""^\s*parentCID\s*=\s*([0-9a-fA-F]*)""", RegexOptions.Multiline)]
    private static partial Regex ParentId();

    [GeneratedRegex("""^\s*CID\s*=\s*([0-9a-fA-F]{1,8})\b""", RegexOptions.Multiline)]
    private static partial Regex ContentId();

    [GeneratedRegex("""^\s*parentFileNameHint\s*=\s*"([^"]*)""", RegexOptions.Multiline)]
    private static partial Regex ParentName();

    public static void Read(ContainerFile file, ChainNames names)
    {
        var head = file.Read(0, Math.Min(Sector, file.Length), "header");
        if (head.AsSpan().StartsWith("KDMV"u8))
            ReadSparse(file, 0, 0);
        else if (head.AsSpan().StartsWith("# Disk Desc"u8))
            ReadDescriptor(file, names);
        else
            throw file.Bad("this kind of VMDK is not supported");
    }

    private static void ReadDescriptor(ContainerFile file, ChainNames names)
    {
        if (file.Length > LongestDescriptor)
            throw file.Bad("its descriptor is too long");
        var text = Encoding.UTF8.GetString(file.Read(0, file.Length, "descriptor"));
        FindParent(file, text);
        var extents = Extents().Matches(text);
        if (extents.Count is 0 or > MostExtents)
            throw file.Bad($"its descriptor names {extents.Count} files");
        var start = 0L;
        foreach (Match extent in extents)
        {
            var sectors = long.Parse(extent.Groups[1].ValueSpan, CultureInfo.InvariantCulture);
            file.Extents.Add(ReadExtent(file, names, extent, start, sectors));
            start += sectors * Sector;
            if (start > MostBytes)
                throw file.Bad("its parts are longer than any disk");
        }
        file.DiskLength = start;
    }

    private static ImageExtent ReadExtent(ContainerFile file, ChainNames names, Match extent, long start, long sectors)
    {
        if (extent.Groups[2].Value is "ZERO")
            return new ImageExtent(sectors, false, null, 0);
#pragma warning disable CA2000 // disposed of by its owner
        var device = names.Open(extent.Groups[3].Value, file.Path, "extent");
#pragma warning restore CA2000
        try
        {
            var part = new ContainerFile(device, device.DisplayName);
            var offset = extent.Groups[4].Length > 0 ? long.Parse(extent.Groups[4].ValueSpan, CultureInfo.InvariantCulture) : 0;
            var isFlat = extent.Groups[2].Value is "FLAT" or "VMFS";
            if (isFlat && offset > MostBytes / Sector)
                throw file.Bad("a part begins where no file reaches");
            if (isFlat)
                part.NeedFlat(offset * Sector, sectors * Sector, "flat part");
            else if (part.Read(0, 4, "header").AsSpan().SequenceEqual("KDMV"u8))
                ReadSparse(part, 0, 0);
            else
                throw part.Bad("this kind of VMDK is not supported");
            if (!isFlat && part.DiskLength != sectors * Sector)
                throw part.Bad($"it holds {part.DiskLength / Sector} sectors, and the descriptor says {sectors}");
            file.Include(part, start);
            return new ImageExtent(sectors, !isFlat, device, offset);
        }
        catch
        {
            device.Dispose();
            throw;
        }
    }

    private static void FindParent(ContainerFile file, string text)
    {
        if (ContentId().Match(text) is { Success: true } own)
            file.ContentId = Whole(own);
        if (ParentId().Match(text) is not { Success: true } id || Whole(id) == NoParent)
            return;
        if (id.Groups[1].Length == 0 || id.Groups[1].Length > NoParent.Length)
            throw file.Bad("the identifier of its parent is none");
        file.ParentContentId = Whole(id);
        file.Backing = ParentName().Match(text) is { Success: true } name && name.Groups[1].Length > 0 ? name.Groups[1].Value
            : throw file.Bad("it holds only what differs from a parent that it does not name");
    }

    /// <summary>Finds the image that one stands on: where it says, or beside it; its content identifier tells it from others.</summary>
    /// <exception cref="VembarException">It is not there.</exception>
    public static FileDevice OpenParent(ContainerFile file, string name, ChainNames names)
    {
        var folder = Path.GetDirectoryName(Path.GetFullPath(file.Path))!;
        var others = new List<string>();
        foreach (var candidate in ((string[])[Path.GetFullPath(Path.Combine(folder, name)), Path.Combine(folder, name.Split('\\',
            '/')[^1])])
            .Distinct())
        {
#pragma warning disable CA2000 // disposed of by its owner
            if (names.TryOpen(candidate) is not { } device)
#pragma warning restore CA2000
                continue;
            if (HasContentId(device, file.ParentContentId))
                return device;
            others.Add($"'{candidate}' is another disk, or was changed since");
            device.Dispose();
        }
        // Says why it is not allowed where it is there.
        if (others.Count == 0)
            names.Open(name, file.Path, "parent").Dispose();
        throw VembarException.Input("parent-missing",
            $"the disk image '{file.Path}' holds only what differs from its parent, and that was not "
            + "found", "Put the parent beside it, or join both into one image.", others);
    }

    private static bool HasContentId(FileDevice device, string id)
    {
        var head = new byte[LongestDescriptor];
        var text = Encoding.ASCII.GetString(head, 0, device.Read(head, 0));
        return ContentId().Match(text) is { Success: true } own && Whole(own) == id;
    }

    // Some writers leave zeros in front away.
    private static string Whole(Match id) => id.Groups[1].Value.PadLeft(NoParent.Length, '0').ToLowerInvariant();

    /// <summary>Gives the one extent of an image in one file, in its descriptor, the name that the file will have.</summary>
    /// <param name="path">The file.</param>
    /// <param name="name">The name; no longer than the one that it has.</param>
    public static void RenameExtent(string path, string name)
    {
        const int DescriptorAt = Sector, DescriptorLength = 20 * Sector;
        using var file = FileDevice.Open(path, write: true);
        var bytes = new byte[DescriptorLength];
        var text = Encoding.UTF8.GetString(bytes, 0, file.Read(bytes, DescriptorAt)).TrimEnd('\0');
        var changed = Encoding.UTF8.GetBytes(text.Replace($"\"{Path.GetFileName(path)}\"", $"\"{name}\"", StringComparison.Ordinal));
        if (changed.Length > bytes.Length)
            return;
        bytes.AsSpan().Clear();
        changed.CopyTo(bytes, 0);
        file.Write(bytes, DescriptorAt);
    }

    /// <summary>Gives a descriptor the content identifier of another one.</summary>
    /// <param name="file">The file with the descriptor.</param>
    /// <param name="other">The text of the other one.</param>
    public static void ReplaceContentId(FileDevice file, string other)
    {
        var bytes = new byte[Math.Min(file.Length, LongestDescriptor)];
        var text = Encoding.Latin1.GetString(bytes, 0, file.Read(bytes, 0));
        if (ContentId().Match(other) is not { Success: true } next || ContentId().Match(text) is not { Success: true } old
            || Whole(next) == Whole(old))
            return;
        using var writable = file.OpenAgain(write: true);
        // Of eight digits it is never shorter than what was there.
        writable.Write(Encoding.Latin1.GetBytes(Whole(next) + text[(old.Groups[1].Index + old.Groups[1].Length)..]), old.Groups[1].Index);
        writable.Flush();
    }

    private static void ReadSparse(ContainerFile file, long at, int turn)
    {
        var head = file.Read(at, Sector, "header");
        ulong Long(int place) => BinaryPrimitives.ReadUInt64LittleEndian(head.AsSpan(place));
        var directory = Long(56);
        // A header without a capacity makes the embedded descriptor count, which names other files.
        if (Long(12) is 0 or > MostBytes / Sector)
            throw file.Bad($"it says that the disk has {Long(12)} sectors");
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
        if (grain is <= 0 or > 2048 || !long.IsPow2(grain)
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
            foreach (var table in file.ReadTable<uint>((long)directory * Sector, tables, isBigEndian: false, "directory of grains"))
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
            foreach (var entry in file.ReadTable<uint>(at, EntriesPerTable, isBigEndian: false, "table of grains"))
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
