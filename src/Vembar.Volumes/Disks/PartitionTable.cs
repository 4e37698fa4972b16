using System.Buffers.Binary;
using System.IO.Hashing;
using System.Text;
using Vembar.Common;

namespace Vembar.Volumes.Disks;

/// <summary>A disk's partition table. GPT: UEFI specification 2.10, chapter 5; MBR and its extended partitions as all systems write
/// them.</summary>
/// <param name="Scheme">How it is divided.</param>
/// <param name="SectorSize">Bytes of a sector, 512 or 4096.</param>
/// <param name="DiskId">GPT: the disk's GUID; MBR: its signature in the first four bytes.</param>
/// <param name="Partitions">In the order of their places on the disk.</param>
/// <param name="Warnings">What is not as it should be but leaves it usable.</param>
public sealed record PartitionTable(PartitionScheme Scheme, int SectorSize, Guid DiskId, IReadOnlyList<Partition> Partitions,
    IReadOnlyList<string> Warnings)
{
    private const int MbrLength = 512, MbrEntriesAt = 446, MbrSignatureAt = 440;
    private const int GptHeaderLength = 92, GptEntryLength = 128, MostGptEntries = 1024, LongestGptEntry = 4096;
    private const byte TypeProtective = 0xEE;
    private static ReadOnlySpan<byte> GptMagic => "EFI PART"u8;

    /// <summary>Reads a disk's partition table.</summary>
    /// <exception cref="VembarException">It is damaged beyond use: partitions outside of the disk, or over each other.</exception>
    public static PartitionTable Read(IBlockDevice disk)
    {
        try
        {
            var warnings = new List<string>();
            var table = ReadGpt(disk, warnings) ?? ReadMbr(disk, warnings) ?? ReadBackup(disk, warnings)
                ?? new PartitionTable(PartitionScheme.None, 512, default, [], []);
            return table with { Partitions = Usable(disk, table.Partitions, warnings), Warnings = warnings };
        }
        catch (Exception failure) when (VembarException.From(failure, "read the partition table of", disk.DisplayName) is { } error)
        {
            throw error;
        }
    }

    private static VembarException Bad(IBlockDevice disk, string what) =>
        VembarException.Input("bad-partition-table", $"'{disk.DisplayName}': {what}",
        "The disk image may be cut short or damaged; take it from another copy.");

    // One entry that is wrong says nothing against the others.
    private static List<Partition> Usable(IBlockDevice disk, IReadOnlyList<Partition> partitions, List<string> warnings)
    {
        var inside = new List<Partition>();
        var outside = new List<string>();
        foreach (var partition in partitions.OrderBy(p => p.Start))
        {
            if (partition.Start > 0 && partition.Length > 0 && partition.Start <= disk.Length - partition.Length)
                inside.Add(partition);
            else
                outside.Add($"partition {partition.Number} reaches from byte {partition.Start} to "
                    + $"{partition.Start + partition.Length}, outside of the disk of {disk.Length} bytes");
        }
        var over = inside.Zip(inside.Skip(1)).Where(p => p.First.Start + p.First.Length > p.Second.Start).ToList();
        outside.AddRange(
            over.Select(p => $"partitions {p.First.Number} and {p.Second.Number} lie over each other at byte {p.Second.Start}"));
        inside.RemoveAll(p => over.Exists(o => o.First == p || o.Second == p));
        if (inside.Count == 0 && outside.Count > 0)
            throw Bad(disk, outside[0]);
        warnings.AddRange(outside.Select(o => $"'{disk.DisplayName}': {o}; it is passed over"));
        return inside;
    }

    private static byte[]? TryRead(IBlockDevice disk, long offset, int length)
    {
        if (offset < 0 || offset > disk.Length - length)
            return null;
        var bytes = new byte[length];
        return disk.Read(bytes, offset) == length ? bytes : null;
    }

    private static PartitionTable? ReadGpt(IBlockDevice disk, List<string> warnings)
    {
        // The sector size is the one at which a header stands.
        foreach (var sector in (int[])[512, 4096])
        {
            if (GptAt(disk, sector, 1) is { } primary)
                return primary with { Warnings = warnings };
        }
        // The first one may be damaged; its backup is in the last sector. A protective MBR says that there was one.
        if (TryRead(disk, 0, MbrLength) is not { } mbr || mbr[510] != 0x55 || mbr[511] != 0xAA
            || !Enumerable.Range(0, 4).Any(i => mbr[MbrEntriesAt + 16 * i + 4] == TypeProtective))
            return null;
        return Backup(disk, warnings)
            ?? throw Bad(disk,
            "its partition table (GPT) is damaged, and so is the backup at the end of the disk, or the disk is cut short");
    }

    // Where even the protective MBR is gone, and nothing else is in its place.
    private static PartitionTable? ReadBackup(IBlockDevice disk, List<string> warnings) =>
        TryRead(disk, 0, MbrLength) is { } first && !FileSystem.HasBootSector(first) && FileSystem.Probe(disk).Kind == FileSystem.Unknown
        ? Backup(disk, warnings) : null;

    private static PartitionTable? Backup(IBlockDevice disk, List<string> warnings)
    {
        foreach (var sector in (int[])[512, 4096])
        {
            if (GptAt(disk, sector, disk.Length / sector - 1) is { } backup)
            {
                warnings.Add($"the first partition table of '{disk.DisplayName}' is damaged; its backup at the end of the disk is used");
                return backup with { Warnings = warnings };
            }
        }
        return null;
    }

    private static PartitionTable? GptAt(IBlockDevice disk, int sector, long number)
    {
        if (TryRead(disk, number * sector, sector) is not { } header || !header.AsSpan().StartsWith(GptMagic))
            return null;
        var length = BinaryPrimitives.ReadUInt32LittleEndian(header.AsSpan(12));
        if (length < GptHeaderLength || length > sector || BinaryPrimitives.ReadUInt64LittleEndian(header.AsSpan(24)) != (ulong)number)
            return null;
        var expected = BinaryPrimitives.ReadUInt32LittleEndian(header.AsSpan(16));
        BinaryPrimitives.WriteUInt32LittleEndian(header.AsSpan(16), 0);
        if (Crc32.HashToUInt32(header.AsSpan(0, (int)length)) != expected)
            return null;
        var entriesAt = BinaryPrimitives.ReadUInt64LittleEndian(header.AsSpan(72));
        var count = BinaryPrimitives.ReadUInt32LittleEndian(header.AsSpan(80));
        var size = BinaryPrimitives.ReadUInt32LittleEndian(header.AsSpan(84));
        if (count > MostGptEntries || size is < GptEntryLength or > LongestGptEntry || entriesAt > (ulong)(disk.Length / sector)
            || TryRead(disk, (long)entriesAt * sector, (int)(count * size)) is not { } entries
            || Crc32.HashToUInt32(entries) != BinaryPrimitives.ReadUInt32LittleEndian(header.AsSpan(88)))
            return null;
        var partitions = new List<Partition>();
        for (var i = 0; i < count; i++)
        {
            var entry = entries.AsSpan((int)(i * size), GptEntryLength);
            var type = new Guid(entry[..16]);
            if (type == Guid.Empty)
                continue;
            ulong first = BinaryPrimitives.ReadUInt64LittleEndian(entry[32..]),
                last = BinaryPrimitives.ReadUInt64LittleEndian(entry[40..]), max = (ulong)(long.MaxValue / sector);
            // What no number of bytes can say lies outside of any disk, as the check of all partitions tells.
            if (first > max || last > max || last < first)
                (first, last) = (0, 0);
            var name = Encoding.Unicode.GetString(entry[56..128]).TrimEnd('\0');
            partitions.Add(new Partition(i + 1, (long)first * sector, (long)(last - first + 1) * sector, type, new Guid(entry[16..32]),
                name, 0, false));
        }
        return new PartitionTable(PartitionScheme.Gpt, sector, new Guid(header.AsSpan(56, 16)), partitions, []);
    }

    private static PartitionTable? ReadMbr(IBlockDevice disk, List<string> warnings)
    {
        // A file system's boot sector ends in the same two bytes, so the entries must make sense too.
        if (TryRead(disk, 0, MbrLength) is not { } mbr || mbr[510] != 0x55 || mbr[511] != 0xAA || FileSystem.HasBootSector(mbr))
            return null;
        const int Sector = 512;
        var partitions = new List<Partition>();
        for (var i = 0; i < 4; i++)
        {
            if (MbrEntry(mbr, i) is not { } entry)
                continue;
            if ((mbr[MbrEntriesAt + 16 * i] & 0x7F) != 0)
                return null;
            if (entry.Type is 0x05 or 0x0F or 0x85)
                ReadLogical(disk, entry.First, partitions, warnings);
            else
                partitions.Add(new Partition(i + 1, entry.First * Sector, entry.Count * Sector, default, default, "", entry.Type,
                    entry.Active));
        }
        if (partitions.Count == 0)
            return null;
        var id = new byte[16];
        mbr.AsSpan(MbrSignatureAt, 4).CopyTo(id);
        return new PartitionTable(PartitionScheme.Mbr, Sector, new Guid(id), partitions, warnings);
    }

    private static (byte Type, long First, long Count, bool Active)? MbrEntry(byte[] sector, int index)
    {
        var entry = sector.AsSpan(MbrEntriesAt + 16 * index, 16);
        long first = BinaryPrimitives.ReadUInt32LittleEndian(entry[8..]), count = BinaryPrimitives.ReadUInt32LittleEndian(entry[12..]);
        return entry[4] == 0 || count == 0 ? null : (entry[4], first, count, entry[0] == 0x80);
    }

    // Each logical partition has a sector in front with its entry and the place of the next; a chain may be a circle.
    private static void ReadLogical(IBlockDevice disk, long start, List<Partition> partitions, List<string> warnings)
    {
        const int Sector = 512, Most = 128, FirstLogical = 5;
        var next = start;
        var seen = new HashSet<long>();
        for (var number = FirstLogical; ; number++)
        {
            if (!seen.Add(next) || seen.Count > Most)
            {
                warnings.Add($"the chain of logical partitions on '{disk.DisplayName}' leads back into itself; those up to there are used");
                return;
            }
            if (TryRead(disk, next * Sector, Sector) is not { } sector || sector[510] != 0x55 || sector[511] != 0xAA)
            {
                warnings.Add($"the chain of logical partitions on '{disk.DisplayName}' is broken at byte {next * Sector}; those up to "
                    + $"there are used");
                return;
            }
            if (MbrEntry(sector, 0) is { } entry)
                partitions.Add(new Partition(number, (next + entry.First) * Sector, entry.Count * Sector, default, default, "", entry.Type,
                    entry.Active));
            if (MbrEntry(sector, 1) is not { } link)
                return;
            next = start + link.First;
        }
    }

    /// <summary>Writes the table: a GPT with its protective MBR and its backup, or an MBR of up to four partitions.</summary>
    /// <param name="disk">The disk, of which the first and last MiB belong to the table.</param>
    /// <param name="bootCode">MBR: the program in front of the table; empty for none.</param>
    public void Write(IBlockDevice disk, ReadOnlySpan<byte> bootCode)
    {
        var mbr = new byte[SectorSize];
        mbr[510] = 0x55;
        mbr[511] = 0xAA;
        if (Scheme == PartitionScheme.Mbr)
        {
            bootCode[..Math.Min(bootCode.Length, MbrSignatureAt)].CopyTo(mbr);
            DiskId.ToByteArray().AsSpan(0, 4).CopyTo(mbr.AsSpan(MbrSignatureAt));
            foreach (var (partition, i) in Partitions.Select((p, i) => (p, i)))
                WriteMbrEntry(mbr.AsSpan(MbrEntriesAt + 16 * i, 16), partition.IsActive, partition.MbrType,
                    (uint)(partition.Start / SectorSize), (uint)(partition.Length / SectorSize));
            disk.Write(mbr, 0);
            return;
        }
        const int Entries = 128, Revision = 0x00010000;
        var sectors = disk.Length / SectorSize;
        var entries = new byte[Entries * GptEntryLength];
        foreach (var partition in Partitions)
        {
            var entry = entries.AsSpan((partition.Number - 1) * GptEntryLength, GptEntryLength);
            partition.Type.TryWriteBytes(entry);
            partition.Id.TryWriteBytes(entry[16..]);
            BinaryPrimitives.WriteInt64LittleEndian(entry[32..], partition.Start / SectorSize);
            BinaryPrimitives.WriteInt64LittleEndian(entry[40..], (partition.Start + partition.Length) / SectorSize - 1);
            // No letter, and needed by the platform (Microsoft, "Hard drives and partitions").
            BinaryPrimitives.WriteUInt64LittleEndian(entry[48..], partition.Type == PartitionTypes.Recovery ? 0x8000000000000001 : 0);
            Encoding.Unicode.GetBytes(partition.Name[..Math.Min(partition.Name.Length, 35)]).CopyTo(entry[56..]);
        }
        var entrySectors = entries.Length / SectorSize;
        WriteMbrEntry(mbr.AsSpan(MbrEntriesAt, 16), false, TypeProtective, 1, (uint)Math.Min(sectors - 1, uint.MaxValue));
        disk.Write(mbr, 0);
        void Header(long own, long other, long entriesAt)
        {
            var header = new byte[SectorSize];
            GptMagic.CopyTo(header);
            BinaryPrimitives.WriteInt32LittleEndian(header.AsSpan(8), Revision);
            BinaryPrimitives.WriteInt32LittleEndian(header.AsSpan(12), GptHeaderLength);
            BinaryPrimitives.WriteInt64LittleEndian(header.AsSpan(24), own);
            BinaryPrimitives.WriteInt64LittleEndian(header.AsSpan(32), other);
            BinaryPrimitives.WriteInt64LittleEndian(header.AsSpan(40), 2 + entrySectors);
            BinaryPrimitives.WriteInt64LittleEndian(header.AsSpan(48), sectors - 2 - entrySectors);
            DiskId.TryWriteBytes(header.AsSpan(56));
            BinaryPrimitives.WriteInt64LittleEndian(header.AsSpan(72), entriesAt);
            BinaryPrimitives.WriteInt32LittleEndian(header.AsSpan(80), Entries);
            BinaryPrimitives.WriteInt32LittleEndian(header.AsSpan(84), GptEntryLength);
            BinaryPrimitives.WriteUInt32LittleEndian(header.AsSpan(88), Crc32.HashToUInt32(entries));
            BinaryPrimitives.WriteUInt32LittleEndian(header.AsSpan(16), Crc32.HashToUInt32(header.AsSpan(0, GptHeaderLength)));
            disk.Write(header, own * SectorSize);
        }
        disk.Write(entries, 2 * SectorSize);
        disk.Write(entries, (sectors - 1 - entrySectors) * SectorSize);
        Header(sectors - 1, 1, sectors - 1 - entrySectors);
        Header(1, sectors - 1, 2);
    }

    private static void WriteMbrEntry(Span<byte> entry, bool active, byte type, uint first, uint count)
    {
        // Cylinders, heads and sectors are not used by anything any more; these values say so.
        ReadOnlySpan<byte> beyond = [0xFE, 0xFF, 0xFF];
        entry[0] = active ? (byte)0x80 : (byte)0;
        beyond.CopyTo(entry[1..]);
        entry[4] = type;
        beyond.CopyTo(entry[5..]);
        BinaryPrimitives.WriteUInt32LittleEndian(entry[8..], first);
        BinaryPrimitives.WriteUInt32LittleEndian(entry[12..], count);
    }
}
