using System.Buffers.Binary;

namespace Vembar.Volumes.Disks;

/// <summary>Where a VHDX has its blocks ([MS-VHDX]: headers, region table, metadata, block allocation table).</summary>
internal static class VhdxLayout
{
    private const int HeaderLength = 4096, RegionsAt = 196_608, TableLength = 65_536, MostEntries = 2047;
    private const int PresentFrom = 6;
    private static readonly Guid s_blocks = new("2DC27766-F623-4200-9D64-115E9BFD4A08"),
        s_metadata = new("8B7CA206-4790-4B9A-B8FE-575F050F886E"),
        s_parameters = new("CAA16737-FA36-4D43-B3B6-33F0AA44E76B"), s_size = new("2FA54224-CD1B-4876-B211-5DBED83BF4B8"),
        s_sector = new("8141BF1D-A96F-4709-BA47-F233A8FAAB5F");

    public static void Read(ContainerFile file)
    {
        var header = Newest(file);
        var logLength = BinaryPrimitives.ReadUInt32LittleEndian(header.AsSpan(68));
        file.Need(BinaryPrimitives.ReadInt64LittleEndian(header.AsSpan(72)) + logLength, "log");
        if (header.AsSpan(48, 16).ContainsAnyExcept((byte)0))
            file.Mark("it was not closed properly: changes in its log are not in their places yet");
        var regions = Regions(file);
        if (!regions.TryGetValue(s_blocks, out var blocks) || !regions.TryGetValue(s_metadata, out var metadata))
            throw file.Bad("its table of regions is incomplete");
        file.Need(metadata.Start + metadata.Length, "region of metadata");
        file.Need(blocks.Start + blocks.Length, "table of blocks");
        var items = Items(file, metadata.Start);
        long Place(Guid item) => items.TryGetValue(item, out var at) ? at : throw file.Bad("its metadata is incomplete");
        var parameters = file.Read(Place(s_parameters), 8, "metadata");
        var block = BinaryPrimitives.ReadUInt32LittleEndian(parameters);
        var isDifferencing = file.DiffersFromParent = (parameters[4] & 2) != 0;
        file.DiskLength = BinaryPrimitives.ReadInt64LittleEndian(file.Read(Place(s_size), 8, "metadata"));
        var sector = BinaryPrimitives.ReadUInt32LittleEndian(file.Read(Place(s_sector), 4, "metadata"));
        if (block is < 1 << 20 or > 256 << 20 || !uint.IsPow2(block) || sector is not (512 or 4096)
            || file.DiskLength is <= 0 or > 1L << 46)
            throw file.Bad($"blocks of {block} bytes and sectors of {sector} are not known");
        ReadBlocks(file, blocks.Start, block, sector, isDifferencing);
    }

    private static void ReadBlocks(ContainerFile file, long table, uint block, uint sector, bool isDifferencing)
    {
        const long Mebibyte = 1 << 20;
        var ratio = (1L << 23) * sector / block;
        var count = (file.DiskLength + block - 1) / block;
        var entries = isDifferencing ? (count + ratio - 1) / ratio * (ratio + 1) : count + (count - 1) / ratio;
        var start = 0L;
        var longs = file.ReadTable<ulong>(table, entries, isBigEndian: false, "table of blocks");
        for (var i = 0L; i < entries; i++)
        {
            var isBitmap = i % (ratio + 1) == ratio;
            var end = (long)(longs[i] >> 20) * Mebibyte + (isBitmap ? Mebibyte : block);
            if ((longs[i] & 7) >= PresentFrom && isBitmap)
                file.Need(end, "bitmap of sectors");
            else if ((longs[i] & 7) >= PresentFrom)
                file.Need(start, block, end, "block");
            start += isBitmap ? 0 : block;
        }
    }

    // Of two copies the one with the higher number counts, if its checksum is right.
    private static byte[] Newest(ContainerFile file)
    {
        byte[]? newest = null;
        foreach (var at in (int[])[TableLength, 2 * TableLength])
        {
            var header = file.Read(at, HeaderLength, "header");
            if (header.AsSpan().StartsWith("head"u8) && Crc32C(header) == BinaryPrimitives.ReadUInt32LittleEndian(header.AsSpan(4))
                && (newest is null || Sequence(header) > Sequence(newest)))
                newest = header;
        }
        return newest ?? throw file.Bad("both of its headers are damaged");
    }

    private static ulong Sequence(byte[] header) => BinaryPrimitives.ReadUInt64LittleEndian(header.AsSpan(8));

    private static uint Crc32C(ReadOnlySpan<byte> header)
    {
        var crc = uint.MaxValue;
        for (var i = 0; i < header.Length; i++)
            crc = System.Numerics.BitOperations.Crc32C(crc, i is >= 4 and < 8 ? (byte)0 : header[i]);
        return ~crc;
    }

    private static Dictionary<Guid, (long Start, long Length)> Regions(ContainerFile file)
    {
        var table = file.Read(RegionsAt, TableLength, "table of regions");
        if (!table.AsSpan().StartsWith("regi"u8))
            table = file.Read(RegionsAt + TableLength, TableLength, "copy of the table of regions");
        if (!table.AsSpan().StartsWith("regi"u8))
            throw file.Bad("both of its tables of regions are damaged");
        var regions = new Dictionary<Guid, (long, long)>();
        for (var i = 0; i < Math.Min(BinaryPrimitives.ReadUInt32LittleEndian(table.AsSpan(8)), MostEntries); i++)
        {
            var entry = table.AsSpan(16 + 32 * i, 32);
            regions[new Guid(entry[..16])] = (BinaryPrimitives.ReadInt64LittleEndian(entry[16..]),
                BinaryPrimitives.ReadUInt32LittleEndian(entry[24..]));
        }
        return regions;
    }

    private static Dictionary<Guid, long> Items(ContainerFile file, long start)
    {
        var table = file.Read(start, TableLength, "table of metadata");
        if (!table.AsSpan().StartsWith("metadata"u8))
            throw file.Bad("its table of metadata is damaged");
        var items = new Dictionary<Guid, long>();
        for (var i = 0; i < Math.Min(BinaryPrimitives.ReadUInt16LittleEndian(table.AsSpan(10)), (ushort)MostEntries); i++)
        {
            var entry = table.AsSpan(32 + 32 * i, 32);
            if (32 + 32 * (i + 1) <= TableLength)
                items[new Guid(entry[..16])] = start + BinaryPrimitives.ReadUInt32LittleEndian(entry[16..]);
        }
        return items;
    }
}
