using System.Buffers.Binary;

namespace Vembar.Volumes.Disks;

/// <summary>Where a VDI has its blocks (the header as the comments of QEMU's reader describe it).</summary>
internal static class VdiLayout
{
    private const int HeaderLength = 512, KindAt = 76, MapAt = 340, DataAt = 344, DiskAt = 368, BlockAt = 376, ExtraAt = 380, CountAt = 384;
    private const uint Dynamic = 1, Static = 2, LowestAbsent = 0xFFFF_FFFE;

    public static void Read(ContainerFile file)
    {
        var head = file.Read(0, HeaderLength, "header");
        uint Word(int at) => BinaryPrimitives.ReadUInt32LittleEndian(head.AsSpan(at));
        if (Word(KindAt) is not (Dynamic or Static) || head.AsSpan(440, 16).ContainsAnyExcept((byte)0))
            throw file.Bad("it holds only what differs from another disk image, which is not supported for VDI");
        file.DiskLength = BinaryPrimitives.ReadInt64LittleEndian(head.AsSpan(DiskAt));
        var (block, count) = (Word(BlockAt), Word(CountAt));
        if (block is < 4096 or > 1 << 28 || !uint.IsPow2(block) || count > 1 << 24 || file.DiskLength <= 0 || Word(ExtraAt) > block)
            throw file.Bad($"{count} blocks of {block} bytes are not known");
        var start = 0L;
        foreach (var entry in file.ReadTable<uint>(Word(MapAt), count, isBigEndian: false, "table of blocks"))
        {
            if (entry < LowestAbsent)
                file.Need(start, block, Word(DataAt) + (entry + 1L) * (block + Word(ExtraAt)), "block");
            start += block;
        }
    }
}
