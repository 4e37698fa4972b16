using System.Buffers.Binary;
using System.Text;

namespace Vembar.Volumes.Disks;

/// <summary>Where a QCOW2 image has its clusters (docs/interop/qcow2 of QEMU's documentation: header, L1 and L2 tables, refcounts,
/// snapshots, extended L2 entries).</summary>
internal static class Qcow2Layout
{
    private const ulong PlaceMask = 0x00FF_FFFF_FFFF_FE00, CompressedBit = 1UL << 62, ZeroBit = 1;
    private const int Sector = 512, MostSnapshots = 65_536, LongestName = 1023;
    private const int Dirty = 1, Corrupt = 2, ExternalData = 4, Compression = 8, ExtendedTables = 16;

    public static void Read(ContainerFile file)
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
        var tables = new Tables(file, clusterBits, (features & ExtendedTables) != 0, (features & ExternalData) != 0);
        if ((file.DiskLength + cluster - 1) / cluster > Word(36) * tables.EntriesPerTable)
            throw file.Bad("its L1 table is too short for the disk");
        tables.Walk((long)Long(40), Word(36), isActive: true);
        foreach (var entry in file.ReadLongs((long)Long(48), Word(56) * cluster / sizeof(ulong), isBigEndian: true, "refcount table"))
        {
            if ((entry & ~0x1FFUL) is > 0 and var place)
                file.Need((long)place + cluster, "refcount block");
        }
        WalkSnapshots(file, tables, Word(60), (long)Long(64));
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
    private sealed class Tables(ContainerFile file, int clusterBits, bool isExtended, bool hasDataFile)
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
            foreach (var entry in file.ReadLongs(first, count, isBigEndian: true, "L1 table"))
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
            var table = file.ReadLongs(place, _cluster / sizeof(ulong), isBigEndian: true, "L2 table");
            for (var i = 0; i < table.Length; i += step, start += _cluster)
            {
                var end = EndOf(table[i], isExtended ? table[i + 1] : 0);
                if (end > 0 && isActive)
                    file.Need(start, _cluster, end, "cluster");
                else if (end > 0)
                    file.Need(end, "cluster of a snapshot");
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
            if (at == 0 || hasDataFile)
                return 0;
            if (!isExtended)
                return (entry & ZeroBit) != 0 ? 0 : at + _cluster;
            // Of 32 parts of the cluster the file holds those up to the last one that is in use.
            var used = 32 - System.Numerics.BitOperations.LeadingZeroCount((uint)subclusters);
            return used == 0 ? 0 : at + used * (_cluster / 32);
        }
    }
}
