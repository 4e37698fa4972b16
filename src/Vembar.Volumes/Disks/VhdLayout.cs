using System.Buffers.Binary;

namespace Vembar.Volumes.Disks;

/// <summary>Where a VHD has its blocks ("Virtual Hard Disk Image Format Specification", Microsoft, version 1.0).</summary>
internal static class VhdLayout
{
    private const int FooterLength = 512, HeaderLength = 1024, Sector = 512;
    private const uint Fixed = 2, Differencing = 4, Absent = 0xFFFF_FFFF;

    public static void Read(ContainerFile file)
    {
        var end = file.Length >= FooterLength ? file.Read(file.Length - FooterLength, FooterLength, "footer") : [];
        var copy = file.Length >= FooterLength ? file.Read(0, FooterLength, "copy of the footer") : [];
        var footer = IsFooter(end) ? end : IsFooter(copy) ? copy : throw file.Bad("neither its footer nor the copy of it is whole");
        file.DiskLength = BinaryPrimitives.ReadInt64BigEndian(footer.AsSpan(48));
        if (file.DiskLength <= 0)
            throw file.Bad($"it says that the disk is {file.DiskLength} bytes long");
        if (footer[84] != 0)
            file.Mark("it is part of a saved state of a virtual machine");
        file.DiffersFromParent = BinaryPrimitives.ReadUInt32BigEndian(footer.AsSpan(60)) == Differencing;
        if (BinaryPrimitives.ReadUInt32BigEndian(footer.AsSpan(60)) == Fixed)
        {
            file.NeedFlat(0, file.DiskLength, "disk");
            file.Need(file.DiskLength + FooterLength, "footer");
        }
        else
            ReadBlocks(file, BinaryPrimitives.ReadInt64BigEndian(footer.AsSpan(16)));
        if (!IsFooter(end) && file.NeededLength <= file.Length)
            file.Need(file.Length + FooterLength, "footer");
    }

    private static void ReadBlocks(ContainerFile file, long headerAt)
    {
        var header = file.Read(headerAt, HeaderLength, "header");
        if (!header.AsSpan().StartsWith("cxsparse"u8))
            throw file.Bad("its header is damaged");
        var table = BinaryPrimitives.ReadInt64BigEndian(header.AsSpan(16));
        var count = BinaryPrimitives.ReadUInt32BigEndian(header.AsSpan(28));
        var block = BinaryPrimitives.ReadUInt32BigEndian(header.AsSpan(32));
        if (block is < Sector or > 1 << 28 || !uint.IsPow2(block) || count > 1 << 24)
            throw file.Bad($"{count} blocks of {block} bytes are not known");
        var bitmap = (block / Sector / 8 + Sector - 1) / Sector * Sector;
        var start = 0L;
        foreach (var sector in file.ReadTable<uint>(table, count, isBigEndian: true, "table of blocks"))
        {
            if (sector != Absent)
                file.Need(start, block, (long)sector * Sector + bitmap + block, "block");
            start += block;
        }
    }

    private static bool IsFooter(ReadOnlySpan<byte> bytes)
    {
        if (!bytes.StartsWith("conectix"u8))
            return false;
        var sum = 0u;
        for (var i = 0; i < bytes.Length; i++)
            sum += i is >= 64 and < 68 ? 0u : bytes[i];
        return BinaryPrimitives.ReadUInt32BigEndian(bytes[64..]) == ~sum;
    }
}
