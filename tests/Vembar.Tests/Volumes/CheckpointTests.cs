using System.Buffers.Binary;
using System.Text;
using Vembar.Common;
using Vembar.Volumes.Disks;
using Xunit;

namespace Vembar.Tests;

/// <summary>Disks that hold only what differs from another: read with it, or refused, never as zeros.</summary>
public class CheckpointTests
{
    private const int Block = 2 << 20, Sector = 512, Length = 64 << 20;

    // The parent has a pattern of its own in every sector; the child another one in some.
    private static byte[] Expected(Random random, byte[] parent, out HashSet<int> changed)
    {
        changed = [.. Enumerable.Range(0, 200).Select(_ => random.Next(Length / Sector)), 0, Length / Sector - 1];
        var whole = parent.ToArray();
        foreach (var sector in changed)
            random.NextBytes(whole.AsSpan(sector * Sector, Sector));
        return whole;
    }

    private static byte[] Noise(Random random)
    {
        var bytes = new byte[Length];
        random.NextBytes(bytes);
        // Some blocks of the parent are holes.
        bytes.AsSpan(10 * Block, 3 * Block).Clear();
        return bytes;
    }

    private static byte[] ReadAll(string path)
    {
        using var image = DiskImage.Open(path);
        Assert.Equal(Length, image.Length);
        using var device = image.OpenDevice();
        var bytes = new byte[Length];
        for (var at = 0; at < Length;)
            at += device.Read(bytes.AsSpan(at, Math.Min(1_000_003, Length - at)), at);
        return bytes;
    }

    // "Virtual Hard Disk Image Format Specification": footer, header, table, blocks with their maps of sectors.
    private static void MakeVhd(string path, string parent, byte[] content, HashSet<int> changed)
    {
        var file = new MemoryStream();
        var old = File.ReadAllBytes(parent);
        var footer = old[^512..];
        var id = footer[68..84];
        BinaryPrimitives.WriteUInt32BigEndian(footer.AsSpan(60), 4);
        BinaryPrimitives.WriteInt64BigEndian(footer.AsSpan(16), 512);
        Guid.NewGuid().TryWriteBytes(footer.AsSpan(68));
        Sum(footer, 64);
        var header = new byte[1024];
        "cxsparse"u8.CopyTo(header);
        BinaryPrimitives.WriteInt64BigEndian(header.AsSpan(8), -1);
        BinaryPrimitives.WriteInt64BigEndian(header.AsSpan(16), 2048);
        BinaryPrimitives.WriteUInt32BigEndian(header.AsSpan(24), 0x00010000);
        BinaryPrimitives.WriteUInt32BigEndian(header.AsSpan(28), Length / Block);
        BinaryPrimitives.WriteUInt32BigEndian(header.AsSpan(32), Block);
        id.CopyTo(header, 40);
        Encoding.BigEndianUnicode.GetBytes(Path.GetFileName(parent)).CopyTo(header, 64);
        var locator = Encoding.Unicode.GetBytes($".\\{Path.GetFileName(parent)}");
        BinaryPrimitives.WriteUInt32BigEndian(header.AsSpan(576), 0x57327275);
        BinaryPrimitives.WriteUInt32BigEndian(header.AsSpan(580), 512);
        BinaryPrimitives.WriteUInt32BigEndian(header.AsSpan(584), (uint)locator.Length);
        BinaryPrimitives.WriteInt64BigEndian(header.AsSpan(592), 1536);
        Sum(header, 36);
        var table = Enumerable.Repeat((byte)0xFF, 512).ToArray();
        file.Write(footer);
        file.Write(header);
        file.Write([.. locator, .. new byte[512 - locator.Length]]);
        var tableAt = file.Position;
        file.Write(table);
        foreach (var block in changed.GroupBy(s => s / (Block / Sector)))
        {
            BinaryPrimitives.WriteUInt32BigEndian(table.AsSpan(4 * block.Key), (uint)(file.Position / Sector));
            var bitmap = new byte[512];
            var data = new byte[Block];
            foreach (var sector in block.Select(s => s % (Block / Sector)))
            {
                bitmap[sector / 8] |= (byte)(0x80 >> (sector % 8));
                content.AsSpan(block.Key * Block + sector * Sector, Sector).CopyTo(data.AsSpan(sector * Sector));
            }
            file.Write(bitmap);
            file.Write(data);
        }
        file.Write(footer);
        file.Position = tableAt;
        file.Write(table);
        File.WriteAllBytes(path, file.ToArray());
    }

    private static void Sum(byte[] bytes, int at)
    {
        bytes.AsSpan(at, 4).Clear();
        BinaryPrimitives.WriteUInt32BigEndian(bytes.AsSpan(at), ~(uint)bytes.Sum(b => b));
    }

    // [MS-VHDX]: headers, region table, metadata, table of blocks, map of sectors, blocks.
    private static void MakeVhdx(string path, string parent, byte[] content, HashSet<int> changed, bool isClosed = true)
    {
        const int Megabyte = 1 << 20;
        var file = new byte[16 << 20];
        "vhdxfile"u8.CopyTo(file);
        var old = File.ReadAllBytes(parent);
        var first = BinaryPrimitives.ReadUInt64LittleEndian(old.AsSpan((64 << 10) + 8)) > BinaryPrimitives.ReadUInt64LittleEndian(
            old.AsSpan((128 << 10) + 8)) ? 64 << 10 : 128 << 10;
        var linkage = new Guid(old.AsSpan(first + 32, 16));
        "head"u8.CopyTo(file.AsSpan(64 << 10));
        BinaryPrimitives.WriteUInt64LittleEndian(file.AsSpan((64 << 10) + 8), 7);
        Guid.NewGuid().TryWriteBytes(file.AsSpan((64 << 10) + 32));
        if (!isClosed)
            Guid.NewGuid().TryWriteBytes(file.AsSpan((64 << 10) + 48));
        var checksum = uint.MaxValue;
        foreach (var value in file.AsSpan(64 << 10, 4096))
            checksum = System.Numerics.BitOperations.Crc32C(checksum, value);
        BinaryPrimitives.WriteUInt32LittleEndian(file.AsSpan((64 << 10) + 4), ~checksum);
        var regions = file.AsSpan(192 << 10);
        "regi"u8.CopyTo(regions);
        BinaryPrimitives.WriteUInt32LittleEndian(regions[8..], 2);
        void Region(Span<byte> entry, string id, long at)
        {
            new Guid(id).TryWriteBytes(entry);
            BinaryPrimitives.WriteInt64LittleEndian(entry[16..], at);
            BinaryPrimitives.WriteUInt32LittleEndian(entry[24..], Megabyte);
        }
        Region(regions[16..], "2DC27766-F623-4200-9D64-115E9BFD4A08", 3 * Megabyte);
        Region(regions[48..], "8B7CA206-4790-4B9A-B8FE-575F050F886E", 2 * Megabyte);
        var pairs = new[] { ("parent_linkage", linkage.ToString("B")), ("relative_path", $".\\{Path.GetFileName(parent)}"),
            ("absolute_win32_path", $"C:\\disks\\{Path.GetFileName(parent)}") };
        var locator = new byte[2048];
        new Guid("B04AEFB7-D19E-4A81-B789-25B8E9445913").TryWriteBytes(locator);
        BinaryPrimitives.WriteUInt16LittleEndian(locator.AsSpan(18), (ushort)pairs.Length);
        var textAt = 20 + 12 * pairs.Length;
        for (var i = 0; i < pairs.Length; i++)
        {
            var entry = 20 + 12 * i;
            foreach (var (text, at, lengthAt) in new[] { (pairs[i].Item1, entry, entry + 8), (pairs[i].Item2, entry + 4, entry + 10) })
            {
                var bytes = Encoding.Unicode.GetBytes(text);
                BinaryPrimitives.WriteUInt32LittleEndian(locator.AsSpan(at), (uint)textAt);
                BinaryPrimitives.WriteUInt16LittleEndian(locator.AsSpan(lengthAt), (ushort)bytes.Length);
                bytes.CopyTo(locator, textAt);
                textAt += bytes.Length;
            }
        }
        var items = new (string Id, byte[] Bytes)[]
        {
            ("CAA16737-FA36-4D43-B3B6-33F0AA44E76B", [.. BitConverter.GetBytes(Block), 2, 0, 0, 0]),
            ("2FA54224-CD1B-4876-B211-5DBED83BF4B8", BitConverter.GetBytes((long)Length)),
            ("8141BF1D-A96F-4709-BA47-F233A8FAAB5F", BitConverter.GetBytes(Sector)), ("A8D35F2D-B30B-454D-ABF7-D3D84834AB0C", locator),
        };
        var metadata = file.AsSpan(2 * Megabyte);
        "metadata"u8.CopyTo(metadata);
        BinaryPrimitives.WriteUInt16LittleEndian(metadata[10..], (ushort)items.Length);
        var itemAt = 64 << 10;
        for (var i = 0; i < items.Length; i++)
        {
            var entry = metadata[(32 + 32 * i)..];
            new Guid(items[i].Id).TryWriteBytes(entry);
            BinaryPrimitives.WriteUInt32LittleEndian(entry[16..], (uint)itemAt);
            BinaryPrimitives.WriteUInt32LittleEndian(entry[20..], (uint)items[i].Bytes.Length);
            items[i].Bytes.CopyTo(metadata[itemAt..]);
            itemAt += items[i].Bytes.Length;
        }
        // All blocks are in the first chunk; the map of its sectors comes behind as many entries as a chunk has blocks.
        const int Ratio = (int)((1L << 23) * Sector / Block);
        var whole = new MemoryStream();
        whole.Write(file);
        var bitmapAt = 15L * Megabyte;
        var bitmap = new byte[Megabyte];
        foreach (var block in changed.GroupBy(s => s / (Block / Sector)))
        {
            var isWhole = block.Key % 3 == 0;
            var at = whole.Length;
            BinaryPrimitives.WriteUInt64LittleEndian(file.AsSpan(3 * Megabyte + 8 * block.Key),
                ((ulong)(at / Megabyte) << 20) | (isWhole ? 6u : 7u));
            var data = new byte[Block];
            if (isWhole)
                content.AsSpan(block.Key * Block, Block).CopyTo(data);
            foreach (var sector in block)
            {
                bitmap[sector / 8] |= (byte)(1 << (sector % 8));
                content.AsSpan(sector * Sector, Sector).CopyTo(data.AsSpan(sector % (Block / Sector) * Sector));
            }
            whole.Position = at;
            whole.Write(data);
        }
        BinaryPrimitives.WriteUInt64LittleEndian(file.AsSpan(3 * Megabyte + 8 * Ratio), ((ulong)(bitmapAt / Megabyte) << 20) | 6);
        bitmap.CopyTo(file, bitmapAt);
        whole.Position = 0;
        whole.Write(file);
        File.WriteAllBytes(path, whole.ToArray());
    }

    [Theory]
    [InlineData("vpc", "vhd")]
    [InlineData("vhdx", "vhdx")]
    public void ACheckpointIsReadWithItsParents(string format, string ending)
    {
        using var folder = new TempFolder();
        var random = new Random(3);
        var content = Noise(random);
        folder.Write("raw.img", content);
        var parent = folder.At($"base.{ending}");
        // The tool for VHD rounds the length to cylinders unless told to leave it.
        string[] options = format == "vpc" ? ["-o", "force_size"] : [];
        Tools.Run("qemu-img", ["convert", "-f", "raw", "-O", format, .. options, folder.At("raw.img"), parent]);
        Action<string, string, byte[], HashSet<int>> make = format == "vpc" ? MakeVhd
            : (path, from, bytes, sectors) => MakeVhdx(path, from, bytes, sectors);
        for (var depth = 1; depth <= 3; depth++)
        {
            content = Expected(random, content, out var changed);
            var child = folder.At($"child{depth}.{ending}");
            make(child, parent, content, changed);
            Assert.Equal(content, ReadAll(child));
            parent = child;
        }
        Assert.Equal("disk-has-parent", Assert.Throws<VembarException>(() => DiskImage.Open(parent, write: true)).Code);
        // Without its parent, or with another one under its name, it is refused, and the parent named.
        var first = folder.At($"child1.{ending}");
        var whole = folder.At($"base.{ending}");
        File.Move(whole, folder.At("away"));
        var missing = Assert.Throws<VembarException>(() => ReadAll(first));
        Assert.Equal("parent-missing", missing.Code);
        Assert.Contains($"base.{ending}", missing.Message, StringComparison.Ordinal);
        Tools.Run("qemu-img", ["create", "-q", "-f", format, whole, $"{Length}"]);
        Assert.Contains("is another disk", Assert.Throws<VembarException>(() => ReadAll(first)).Details[0], StringComparison.Ordinal);
        Assert.Equal("parent-missing", Assert.Throws<VembarException>(() => ReadAll(parent)).Code);
    }

    [Fact]
    public void ACheckpointWithAFullLogIsSaidToBe()
    {
        using var folder = new TempFolder();
        Tools.Run("qemu-img", ["create", "-q", "-f", "vhdx", folder.At("base.vhdx"), $"{Length}"]);
        MakeVhdx(folder.At("child.vhdx"), folder.At("base.vhdx"), new byte[Length], [5], isClosed: false);
        Assert.Equal("disk-not-closed", Assert.Throws<VembarException>(() => ReadAll(folder.At("child.vhdx"))).Code);
    }

    [Theory]
    [InlineData("vpc", "vhd")]
    [InlineData("vhdx", "vhdx")]
    public void DamagedCheckpointsAreReadOrRefused(string format, string ending)
    {
        using var folder = new TempFolder();
        var random = new Random(8);
        var parent = folder.At($"base.{ending}");
        string[] options = format == "vpc" ? ["-o", "force_size"] : [];
        Tools.Run("qemu-img", ["create", "-q", "-f", format, .. options, parent, $"{Length}"]);
        var child = folder.At($"child.{ending}");
        if (format == "vpc")
            MakeVhd(child, parent, Noise(random), [1, 9000, 130000]);
        else
            MakeVhdx(child, parent, Noise(random), [1, 9000, 130000]);
        var good = File.ReadAllBytes(child);
        (int At, int Length)[] heads = format == "vpc" ? [(0, 2560)]
            : [(64 << 10, 80), (192 << 10, 100), (2 << 20, 256), ((2 << 20) + (64 << 10), 600), (3 << 20, 600)];
        for (var round = 0; round < 150; round++)
        {
            var bytes = good.ToArray();
            var (at, length) = heads[random.Next(heads.Length)];
            for (var i = 0; i <= round % 3; i++)
                bytes[at + random.Next(length)] = (byte)random.Next(256);
            File.WriteAllBytes(child, round % 10 == 9 ? bytes[..random.Next(bytes.Length)] : bytes);
            try
            {
                using var image = DiskImage.Open(child);
                using var device = image.OpenDevice();
                var buffer = new byte[1 << 16];
                for (var i = 0; i < 20; i++)
                    device.Read(buffer, random.NextInt64(Math.Max(1, image.Length)));
            }
            catch (Exception problem) when (problem is VembarException or Native.NativeException)
            {
                Assert.NotEqual("", problem.Message);
            }
        }
    }
}
