using System.Buffers.Binary;
using System.Text;

namespace Vembar.Volumes.Disks;

/// <summary>Where a QCOW2 image has its clusters (docs/interop/qcow2 of QEMU's documentation: header, L1 and L2 tables, refcounts,
/// snapshots, extended L2 entries).</summary>
internal static class Qcow2Layout
{
    private const ulong PlaceMask = 0x00FF_FFFF_FFFF_FE00, CompressedBit = 1UL << 62, CopiedBit = 1UL << 63, ZeroBit = 1;
    private const int Sector = 512, MostSnapshots = 65_536, LongestName = 1023;
    private const uint BackingFormat = 0xE2792ACA, DataName = 0x44415441, Encryption = 0x0537BE77, HeaderOfVersion2 = 72;
    private const int Dirty = 1, Corrupt = 2, ExternalData = 4, Compression = 8, ExtendedTables = 16;

    public static void Read(ContainerFile file, ChainNames names)
    {
        var head = file.Read(0, Math.Min(104, Math.Max(72, file.Length)), "header");
        uint Word(int at) => BinaryPrimitives.ReadUInt32BigEndian(head.AsSpan(at));
        ulong Long(int at) => BinaryPrimitives.ReadUInt64BigEndian(head.AsSpan(at));
        var (version, clusterBits) = (Word(4), (int)Word(20));
        if (version is not (2 or 3) || clusterBits is < 9 or > 21 || (version == 3 && head.Length < 104))
            throw file.Bad($"version {version} with clusters of 2^{clusterBits} bytes is not known");
        var features = version == 3 ? Long(72) : 0;
        if ((features & ~(ulong)(Dirty | Corrupt | ExternalData | Compression | ExtendedTables)) != 0)
            throw file.Bad($"it has features that are not known ({features:x})");
        if ((features & Dirty) != 0)
            file.Mark("it was not closed properly (its dirty bit is set)");
        if ((features & Corrupt) != 0)
            file.Mark("it is marked as corrupt");
        if (Word(32) != 0)
            throw file.Bad("it is encrypted");
        if (Long(24) > 1UL << 56)
            throw file.Bad($"it says that the disk is {Long(24)} bytes long");
        file.DiskLength = (long)Long(24);
        var cluster = 1L << clusterBits;
        if (Long(8) is > 0 and var nameAt)
        {
            if (Word(16) > LongestName)
                throw file.Bad("the name of its backing file is too long");
            file.Backing = Encoding.UTF8.GetString(file.Read((long)nameAt, Word(16), "name of the backing file"));
        }
        var dataName = ReadExtensions(file, version == 3 ? Word(100) : HeaderOfVersion2, cluster);
        var holder = file;
        if ((features & ExternalData) != 0)
        {
            file.DataFile = names.Open(dataName ?? throw file.Bad("it does not name the file that holds its data"), file.Path, "data file");
            holder = new ContainerFile(file.DataFile, file.DataFile.DisplayName);
        }
        var tables = new Tables(file, holder, clusterBits, (features & ExtendedTables) != 0);
        if ((file.DiskLength + cluster - 1) / cluster > Word(36) * tables.EntriesPerTable)
            throw file.Bad("its L1 table is too short for the disk");
        tables.Walk((long)Long(40), Word(36), isActive: true);
        foreach (var entry in file.ReadTable<ulong>((long)Long(48), Word(56) * cluster / sizeof(ulong), isBigEndian: true,
            "refcount table"))
        {
            if ((entry & ~0x1FFUL) is > 0 and var place)
                file.Need((long)place + cluster, "refcount block");
        }
        WalkSnapshots(file, tables, Word(60), (long)Long(64));
        if (holder != file)
            file.Include(holder, 0);
    }

    // After the header: kind, length, content, each padded to 8 bytes, within the first cluster.
    private static string? ReadExtensions(ContainerFile file, uint headerLength, long cluster)
    {
        string? dataName = null;
        for (var at = (long)headerLength; at + 8 <= Math.Min(cluster, file.Length);)
        {
            var head = file.Read(at, 8, "header extension");
            var (kind, length) = (BinaryPrimitives.ReadUInt32BigEndian(head), BinaryPrimitives.ReadUInt32BigEndian(head.AsSpan(4)));
            if (kind == 0)
                break;
            if (at + 8 + length > cluster)
                throw file.Bad("an extension of its header is too long");
            string Name() => length <= LongestName ? Encoding.UTF8.GetString(file.Read(at + 8, length, "header extension"))
                : throw file.Bad("a name in its header is too long");
            if (kind == Encryption)
                throw file.Bad("it is encrypted");
            if (kind == BackingFormat)
                file.BackingFormat = Name();
            else if (kind == DataName)
                dataName = Name();
            at += 8 + ((length + 7L) & ~7L);
        }
        return dataName;
    }

    private static void WalkSnapshots(ContainerFile file, Tables tables, uint count, long at)
    {
        if (count > MostSnapshots)
            throw file.Bad($"it has {count} snapshots");
        for (var i = 0; i < count; i++)
        {
            var entry = file.Read(at, 40, "table of snapshots");
            tables.Walk(BinaryPrimitives.ReadInt64BigEndian(entry), BinaryPrimitives.ReadUInt32BigEndian(entry.AsSpan(8)), isActive: false);
            var (idLength, nameLength) =
                (BinaryPrimitives.ReadUInt16BigEndian(entry.AsSpan(12)), BinaryPrimitives.ReadUInt16BigEndian(entry.AsSpan(14)));
            var length = 40L + BinaryPrimitives.ReadUInt32BigEndian(entry.AsSpan(36)) + idLength + nameLength;
            at += (length + 7) & ~7L;
        }
    }

    /// <summary>The tables of the disk as it is, and of its snapshots.</summary>
    private sealed class Tables(ContainerFile file, ContainerFile holder, int clusterBits, bool isExtended)
    {
        private const int MostEntries = 32 << 20 >> 3;
        private readonly HashSet<ulong> _seen = [];
        private readonly long _cluster = 1L << clusterBits;

        public long EntriesPerTable => _cluster / (isExtended ? 16 : 8);

        public void Walk(long first, uint count, bool isActive)
        {
            if (count > MostEntries)
                throw file.Bad("its L1 table is too large");
            var start = 0L;
            foreach (var entry in file.ReadTable<ulong>(first, count, isBigEndian: true, "L1 table"))
            {
                if ((entry & PlaceMask) is > 0 and var place && _seen.Add(place))
                    WalkSecond((long)place, start, isActive);
                start += EntriesPerTable * _cluster;
            }
        }

        private void WalkSecond(long place, long start, bool isActive)
        {
            if (place + _cluster > file.Length)
            {
                // All that the table would say is missing with it.
                file.Need(start, EntriesPerTable * _cluster, place + _cluster, "L2 table");
                return;
            }
            var step = isExtended ? 2 : 1;
            var table = file.ReadTable<ulong>(place, _cluster / sizeof(ulong), isBigEndian: true, "L2 table");
            for (var i = 0; i < table.Length; i += step, start += _cluster)
            {
                var end = EndOf(table[i], isExtended ? table[i + 1] : 0);
                var isCompressed = (table[i] & CompressedBit) != 0;
                if (end > 0 && isActive)
                    (isCompressed ? file : holder).Need(start, _cluster, end, "cluster");
                else if (end > 0)
                    (isCompressed ? file : holder).Need(end, "cluster of a snapshot");
            }
        }

        // The byte after the last one of a cluster; 0 if it has none in this file.
        private long EndOf(ulong entry, ulong subclusters)
        {
            if ((entry & CompressedBit) != 0)
            {
                // The last sector need not be there whole.
                var bits = 62 - (clusterBits - 8);
                var place = (long)(entry & ((1UL << bits) - 1)) & ~(Sector - 1L);
                var sectors = (long)((entry >> bits) & ((1UL << (62 - bits)) - 1)) + 1;
                return place + sectors * Sector - (Sector - 1);
            }
            var at = (long)(entry & PlaceMask);
            // Another file may hold a cluster at its beginning.
            if (at == 0 && (holder == file || (entry & CopiedBit) == 0))
                return 0;
            if (!isExtended)
                return (entry & ZeroBit) != 0 ? 0 : at + _cluster;
            // Of 32 parts of the cluster the file holds those up to the last one that is in use.
            var used = 32 - System.Numerics.BitOperations.LeadingZeroCount((uint)subclusters);
            return used == 0 ? 0 : at + used * (_cluster / 32);
        }
    }
}
