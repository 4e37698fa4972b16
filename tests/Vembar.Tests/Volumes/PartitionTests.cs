using CsCheck;
using Vembar.Common;
using Vembar.Common.Formats;
using Vembar.Volumes.Disks;
using Vembar.Volumes.Targets;
using Xunit;

namespace Vembar.Tests;

public class PartitionTests
{
    private const long MiB = 1 << 20;

    private static string Raw(TempFolder folder, long length, string name = "disk.img")
    {
        using var file = File.Create(folder.At(name));
        file.SetLength(length);
        return folder.At(name);
    }

    private static PartitionTable Read(string path)
    {
        using var device = FileDevice.Open(path, write: false);
        return PartitionTable.Read(device);
    }

    private static void Write(PartitionTable table, string path)
    {
        using var device = FileDevice.Open(path, write: true);
        table.Write(device, default);
    }

    [Fact]
    public void WhatIsWrittenIsReadAndOthersFindNothingWrong()
    {
        using var folder = new TempFolder();
        var path = Raw(folder, 2048 * MiB);
        var table = DiskLayout.Uefi.Place(2048 * MiB, 512);
        Write(table, path);
        var read = Read(path);
        Assert.Equal(table.Partitions, read.Partitions);
        Assert.Equal(table.DiskId, read.DiskId);
        Assert.Contains("No problems found", Tools.Run("sgdisk", ["-v", path]), StringComparison.Ordinal);
        var seen = Tools.Run("sgdisk", ["-p", path]);
        foreach (var (partition, code) in table.Partitions.Zip((string[])["EF00", "0C01", "0700", "2700"]))
        {
            var (first, last) = (partition.Start / 512, (partition.Start + partition.Length) / 512 - 1);
            Assert.Matches($@"\n +{partition.Number} +{first} +{last} .* {code} ", seen);
        }
        // No two disks have the same identities.
        Assert.NotEqual(table.DiskId, DiskLayout.Uefi.Place(2048 * MiB, 512).DiskId);
    }

    [Fact]
    public void AnMbrIsReadByOthersAndTheirsIsRead()
    {
        using var folder = new TempFolder();
        var path = Raw(folder, 2048 * MiB);
        var table = DiskLayout.Bios.Place(2048 * MiB, 512);
        Write(table, path);
        Assert.Equal(table.Partitions, Read(path).Partitions);
        var seen = Tools.Run("sfdisk", ["-d", path]);
        Assert.Contains($"start={table.Partitions[0].Start / 512,12}, size={table.Partitions[0].Length / 512,12}, type=7, bootable", seen,
            StringComparison.Ordinal);
        // With logical partitions in an extended one.
        var other = Raw(folder, 100 * MiB, "other.img");
        Tools.Run("sh",
            ["-c", $"printf 'label: dos\\nstart=2048, size=20480, type=7, bootable\\nstart=22528, size=100000, type=5\\nstart=24576, "
            + $"size=10240, type=7\\nstart=36864, size=20480, type=83\\n' | sfdisk -q '{other}'"]);
        var read = Read(other);
        Assert.Equal(PartitionScheme.Mbr, read.Scheme);
        Assert.Equal([(1, 2048L, 20480L), (5, 24576L, 10240L), (6, 36864L, 20480L)],
            read.Partitions.Select(p => (p.Number, p.Start / 512, p.Length / 512)));
        Assert.True(read.Partitions[0].IsActive);
    }

    [Fact]
    public void ADamagedFirstTableIsReplacedByItsBackup()
    {
        using var folder = new TempFolder();
        var path = Raw(folder, 2048 * MiB);
        var table = DiskLayout.Uefi.Place(2048 * MiB, 512);
        Write(table, path);
        using (var device = FileDevice.Open(path, write: true))
            device.Write([0xFF, 0xFF], 512 + 60);
        var read = Read(path);
        Assert.Equal(table.Partitions, read.Partitions);
        Assert.Contains("backup", Assert.Single(read.Warnings), StringComparison.Ordinal);
        using (var device = FileDevice.Open(path, write: true))
            device.Write([0xFF, 0xFF], device.Length - 512 + 60);
        Assert.Equal("bad-partition-table", Assert.Throws<VembarException>(() => Read(path)).Code);
        // Cut short: the partitions reach beyond the end.
        Write(table, path);
        using (var file = File.OpenWrite(path))
            file.SetLength(1024 * MiB);
        var cut = Read(path);
        Assert.Equal(table.Partitions.Take(2), cut.Partitions);
        Assert.Equal(2, cut.Warnings.Count(w => w.Contains("outside of the disk", StringComparison.Ordinal)));
        // Without any mark in front, the backup alone says what is there; but not where something else begins.
        using (var file = File.OpenWrite(path))
            file.SetLength(2048 * MiB);
        Write(table, path);
        using (var device = FileDevice.Open(path, write: true))
            device.Write(new byte[MiB], 0);
        Assert.Equal(table.Partitions, Read(path).Partitions);
        using (var device = FileDevice.Open(path, write: true))
            device.Write([0xEB, 0x52, 0x90, .. "NTFS    "u8], 0);
        Assert.Equal(PartitionScheme.None, Read(path).Scheme);
    }

    [Fact]
    public void OneWrongEntryLeavesTheOthers()
    {
        var device = new MemoryDevice(new byte[64 * MiB]);
        Partition Basic(int number, long start, long length) =>
            new(number, start, length, PartitionTypes.BasicData, Guid.NewGuid(), "", 0, false);
        Partition[] all = [Basic(1, MiB, 8 * MiB), Basic(2, 20 * MiB, 800 * MiB), Basic(3, 30 * MiB, 8 * MiB), Basic(4, 34 * MiB, 8 * MiB),
            Basic(5, 50 * MiB, MiB)];
        new PartitionTable(PartitionScheme.Gpt, 512, Guid.NewGuid(), all, []).Write(device, default);
        var read = PartitionTable.Read(device);
        Assert.Equal([all[0], all[4]], read.Partitions);
        Assert.Contains(read.Warnings, w => w.Contains("partition 2 reaches", StringComparison.Ordinal));
        Assert.Contains(read.Warnings, w => w.Contains("partitions 3 and 4 lie over each other", StringComparison.Ordinal));
    }

    [Fact]
    public void SectorsOf4096BytesAreRecognised()
    {
        var bytes = new byte[16 * MiB];
        var device = new MemoryDevice(bytes);
        var table = new PartitionTable(PartitionScheme.Gpt, 4096, Guid.NewGuid(),
            [new Partition(1, MiB, 4 * MiB, PartitionTypes.BasicData, Guid.NewGuid(), "one", 0, false)], []);
        table.Write(device, default);
        var read = PartitionTable.Read(device);
        Assert.Equal(4096, read.SectorSize);
        Assert.Equal(table.Partitions, read.Partitions);
    }

    [Fact]
    public void PartitionsOverEachOtherAndCirclesAreTold()
    {
        var device = new MemoryDevice(new byte[64 * MiB]);
        Partition Basic(int number, long start, long length) =>
            new(number, start, length, PartitionTypes.BasicData, Guid.NewGuid(), "", 0, false);
        new PartitionTable(PartitionScheme.Gpt, 512, Guid.NewGuid(), [Basic(1, MiB, 8 * MiB), Basic(2, 4 * MiB, 8 * MiB)],
            []).Write(device, default);
        Assert.Contains("over each other", Assert.Throws<VembarException>(() => PartitionTable.Read(device)).Message,
            StringComparison.Ordinal);
        // An extended partition whose chain leads back to its beginning.
        var disk = new MemoryDevice(new byte[64 * MiB]);
        void Entry(long sector, int index, byte type, uint first, uint count)
        {
            var at = sector * 512 + 446 + 16 * index;
            disk.Bytes[at + 4] = type;
            BitConverter.GetBytes(first).CopyTo(disk.Bytes, at + 8);
            BitConverter.GetBytes(count).CopyTo(disk.Bytes, at + 12);
            disk.Bytes[sector * 512 + 510] = 0x55;
            disk.Bytes[sector * 512 + 511] = 0xAA;
        }
        Entry(0, 0, 5, 2048, 60000);
        Entry(2048, 0, 7, 64, 1000);
        Entry(2048, 1, 5, 4096, 100);
        Entry(6144, 0, 7, 64, 1000);
        Entry(6144, 1, 5, 0, 100);
        var read = PartitionTable.Read(disk);
        Assert.Equal(2, read.Partitions.Count);
        Assert.Contains("leads back", Assert.Single(read.Warnings), StringComparison.Ordinal);
    }

    [Fact]
    public void AnyBytesGiveATableOrOneError()
    {
        var good = new byte[4 * MiB];
        new PartitionTable(PartitionScheme.Gpt, 512, Guid.NewGuid(),
            [new Partition(1, MiB, MiB, PartitionTypes.BasicData, Guid.NewGuid(), "one", 0, false)],
            []).Write(new MemoryDevice(good), default);
        Gen.Select(Gen.Int[0, 34 * 512].Array[1, 24], Gen.Byte.Array[24], Gen.Bool).Sample((places, values, fix) =>
        {
            var bytes = good.ToArray();
            for (var i = 0; i < places.Length; i++)
                bytes[places[i]] = values[i];
            if (fix)
            {
                // With right checksums the fields themselves are what is looked at.
                BitConverter.GetBytes(System.IO.Hashing.Crc32.HashToUInt32(bytes.AsSpan(1024, 128 * 128))).CopyTo(bytes, 512 + 88);
                BitConverter.GetBytes(0).CopyTo(bytes, 512 + 16);
                BitConverter.GetBytes(System.IO.Hashing.Crc32.HashToUInt32(bytes.AsSpan(512, 92))).CopyTo(bytes, 512 + 16);
            }
            try
            {
                Assert.All(PartitionTable.Read(new MemoryDevice(bytes)).Partitions,
                    p => Assert.True(p.Start > 0 && p.Length > 0 && p.Start + p.Length <= bytes.Length));
            }
            catch (VembarException problem)
            {
                Assert.Equal(ErrorKind.Input, problem.Kind);
            }
        }, iter: 400);
    }

    [Fact]
    public void LayoutsAreReadFromFiles()
    {
        using var folder = new TempFolder();
        var layout = DiskLayout.Named(folder.Write("l.yaml", "scheme: gpt\npartitions:\n  - role: efi\n    size: 100 MiB\n    label: "
            + "BOOT\n  - role: windows\n    label: Desk\n  - role: data\n    size: 1G\n"));
        Assert.Equal([(PartitionRole.Efi, (long?)100 * MiB), (PartitionRole.Windows, null), (PartitionRole.Data, 1024 * MiB)],
            layout.Partitions.Select(p => (p.Role, p.Bytes)));
        var placed = layout.Place(3000 * MiB, 512);
        Assert.Equal(MiB, placed.Partitions[0].Start);
        Assert.All(placed.Partitions, p => Assert.Equal(0, p.Start % MiB));
        Assert.True(placed.Partitions[^1].Start + placed.Partitions[^1].Length <= 2999 * MiB);
        Assert.Equal("disk-too-small", Assert.Throws<VembarException>(() => layout.Place(1000 * MiB, 512)).Code);
        foreach (var (text, says) in new[]
        {
            ("partitions:\n  - role: efi\n    size: 10 MiB\n", "exactly one partition with the role windows"),
            ("scheme: other\n", "'scheme' is not known here"),
            ("partitions:\n  - role: windows\n    size: much\n", "'much' is not a size"),
            ("scheme: mbr\npartitions:\n  - role: windows\n", "needs exactly one partition with the role system"),
            ("partitions:\n  - role: attic\n", "needs a role"),
            ("partitions:\n  - role: windows\n  - role: data\n", "only one partition can take the rest"), ("- a\n", "must be a mapping"),
            ("a: [", "bad.yaml', line "),
        })
        {
            var problem = Assert.Throws<VembarException>(() => DiskLayout.Named(folder.Write("bad.yaml", text)));
            Assert.Equal("bad-layout", problem.Code);
            Assert.Contains(says, problem.Message, StringComparison.Ordinal);
        }
        Assert.Equal("no-such-layout", Assert.Throws<VembarException>(() => DiskLayout.Named(folder.At("none.yaml"))).Code);
    }

    [Theory]
    [InlineData("600 MiB", 600 * MiB)]
    [InlineData("40G", 40 * 1024 * MiB)]
    [InlineData("1.5 GiB", 1536 * MiB)]
    [InlineData("1048576", MiB)]
    [InlineData("512kb", 512 << 10)]
    [InlineData("0", 0)]
    [InlineData("much", 0)]
    [InlineData("-5 MiB", 0)]
    [InlineData("5 XiB", 0)]
    [InlineData("99999999 TiB", 0)]
    public void SizesAreReadAsPeopleWriteThem(string text, long bytes) =>
        Assert.Equal((bytes > 0, bytes), (ByteSize.TryParse(text, out var parsed), parsed));

    [Fact]
    public void TheCacheReadsAndWritesAsTheDeviceWouldWithFewerCalls()
    {
        Gen.Select(Gen.Int[0, 900_000], Gen.Int[1, 200_000], Gen.Byte, Gen.Bool).Array[1, 40].Sample(steps =>
        {
            var plain = new byte[1_000_003];
            var device = new MemoryDevice(new byte[plain.Length]);
            using var cached = new CachedDevice(device, 8);
            foreach (var (offset, wanted, value, write) in steps)
            {
                var length = Math.Min(wanted, plain.Length - offset);
                if (write)
                {
                    plain.AsSpan(offset, length).Fill(value);
                    cached.Write(plain.AsSpan(offset, length), offset);
                }
                else
                {
                    var got = new byte[length];
                    Assert.Equal(length, cached.Read(got, offset));
                    Assert.True(got.AsSpan().SequenceEqual(plain.AsSpan(offset, length)));
                }
            }
            cached.Flush();
            Assert.True(device.Bytes.AsSpan().SequenceEqual(plain));
        }, iter: 60);
        var many = new MemoryDevice(new byte[1 << 20]);
        using var cache = new CachedDevice(many, 16);
        for (var i = 0; i < 1000; i++)
            cache.Write([1, 2, 3, 4], i * 1000);
        cache.Flush();
        Assert.True(many.Writes <= 4, $"{many.Writes} writes");
        Assert.Equal([2, 3, 4], many.Bytes[1..4]);
    }
}
