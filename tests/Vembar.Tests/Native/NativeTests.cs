using CsCheck;
using Vembar.Native;
using Xunit;

namespace Vembar.Tests;

public class NativeTests
{
    [Fact]
    public void WhatZstdPacksItUnpacksAndSoDoesTheToolOfThatName()
    {
        using var folder = new TempFolder();
        using var zstd = new Zstd();
        Gen.Select(Gen.Byte[0, 3].Array[0, 20_000], Gen.OneOf(Gen.Const(1), Gen.Const(5), Gen.Const(19))).Sample((plain, level) =>
        {
            using var own = new Zstd();
            var room = new byte[Zstd.Bound(plain.Length)];
            var packed = room[..own.Compress(plain, room, new ZstdSettings(level))];
            var back = new byte[plain.Length];
            return own.TryExpand(packed, back) && back.AsSpan().SequenceEqual(plain);
        }, iter: 100);
        var text = System.Text.Encoding.ASCII.GetBytes(string.Concat(Enumerable.Repeat("a line of text\n", 500)));
        var frame = new byte[Zstd.Bound(text.Length)];
        var length = zstd.Compress(text, frame, new ZstdSettings(3));
        folder.Write("frame.zst", frame[..length]);
        Assert.Equal(System.Text.Encoding.ASCII.GetString(text), Tools.Run("zstd", ["-dcq", folder.At("frame.zst")]));
    }

    // One compressor is used for blocks of every kind, one after the other, each with settings of its own.
    [Fact]
    public void SettingsHoldForOneCallAndNotForTheNext()
    {
        using var zstd = new Zstd();
        var random = new Random(4);
        var words = Enumerable.Range(0, 3000).Select(_ => new string((char)('a' + random.Next(26)), 1 + random.Next(9))).ToArray();
        var plain = System.Text.Encoding.ASCII.GetBytes(string.Join(' ',
            Enumerable.Range(0, 100_000).Select(_ => words[random.Next(words.Length)])));
        var room = new byte[Zstd.Bound(plain.Length)];
        var lengths = new Dictionary<ZstdSettings, int>();
        ZstdSettings[] all =
            [new(1), new(1, Step: 6), new(1, WindowLog: 12), new(5), new(5, SearchLog: 1), new(18), new(18, HashLog: 12, ChainLog: 12)];
        foreach (var settings in all)
        {
            using var own = new Zstd();
            lengths[settings] = own.Compress(plain, room, settings);
        }
        Assert.Equal(all.Length, lengths.Values.Distinct().Count());
        for (var i = 0; i < 30; i++)
        {
            var settings = all[random.Next(all.Length)];
            var packed = zstd.Compress(plain, room, settings);
            Assert.Equal(lengths[settings], packed);
            var back = new byte[plain.Length];
            Assert.True(zstd.TryExpand(room.AsSpan(0, packed), back));
            Assert.Equal(plain, back);
        }
    }

    [Fact]
    public void DamagedFramesAndWrongLengthsAreRefused()
    {
        using var zstd = new Zstd();
        var plain = new byte[5000];
        new Random(2).NextBytes(plain.AsSpan(0, 2500));
        var room = new byte[Zstd.Bound(plain.Length)];
        var packed = room[..zstd.Compress(plain, room, new ZstdSettings(3))];
        Assert.False(zstd.TryExpand(packed, new byte[4999]));
        Assert.False(zstd.TryExpand(packed, new byte[5001]));
        Assert.False(zstd.TryExpand(packed.AsSpan(0, packed.Length / 2), new byte[5000]));
        Assert.False(zstd.TryExpand([], new byte[10]));
        Assert.False(zstd.TryExpand("not a frame at all"u8, new byte[10]));
        Assert.True(zstd.TryExpand(packed, new byte[5000]));
    }

    [Fact]
    public void FoldersFilesAndLinksAreSeenAsStatSeesThem()
    {
        using var folder = new TempFolder();
        folder.Write("file", "12345");
        Directory.CreateDirectory(folder.At("sub"));
        File.CreateSymbolicLink(folder.At("link"), "nowhere");
        Tools.Run("mkfifo", [folder.At("pipe")]);
        Tools.Run("chmod", ["2751", folder.At("sub")]);
        using var handle = Posix.OpenFolder(null, PosixName.Encode(folder.Path));
        var names = new PosixNames();
        Posix.ReadFolder(handle, folder.Path, names);
        Assert.Equal(["file", "link", "pipe", "sub"], Enumerable.Range(0, names.Count).Select(names.Text));
        Assert.Equal("file\0"u8, names.Raw(0));
        foreach (var (name, kind) in new[] { ("file", PosixKind.File), ("sub", PosixKind.Folder), ("link", PosixKind.Link),
            ("pipe", PosixKind.Special) })
        {
            var stat = Posix.Stat(handle, PosixName.Encode(name));
            var expected = Tools.Run("stat", ["-c", "%a %h %u %g %i %s", folder.At(name)]).Trim();
            Assert.Equal(kind, stat.Kind);
            Assert.Equal(expected, $"{Convert.ToString(stat.Mode, 8)} {stat.LinkCount} {stat.Uid} {stat.Gid} {stat.Inode} {stat.Size}");
        }
        Assert.Equal("nowhere", Posix.ReadLink(handle, PosixName.Encode("link")));
        Assert.False(Posix.TryStat(handle, PosixName.Encode("absent"), out _));
        Assert.Equal(Errno.NotFound, Assert.Throws<NativeException>(() => Posix.Stat(handle, PosixName.Encode("absent"))).Errno);
        // Neither a folder nor a file is opened through a link.
        Assert.Throws<NativeException>(() => Posix.OpenFolder(handle, PosixName.Encode("link")).Dispose());
        Assert.Equal(Errno.Loop, Assert.Throws<NativeException>(() => Posix.OpenRead(handle, PosixName.Encode("link")).Dispose()).Errno);
    }

    [Fact]
    public void FoldersOfManyAndLongNamesAreListedWholeAndInOrder()
    {
        using var folder = new TempFolder();
        var names = Enumerable.Range(0, 3000).Select(i => $"{i % 7}-{i}-{new string('ä', i % 120)}").ToList();
        names.ForEach(n => folder.Write(n, ""));
        var list = new PosixNames();
        for (var again = 0; again < 2; again++)
        {
            using var handle = Posix.OpenFolder(null, PosixName.Encode(folder.Path));
            Posix.ReadFolder(handle, folder.Path, list);
            Assert.Equal(names.Order(StringComparer.Ordinal), Enumerable.Range(0, list.Count).Select(list.Text));
        }
        using var file = Posix.OpenRead(null, PosixName.Encode(folder.At(names[0])));
        Assert.Throws<NativeException>(() => Posix.ReadFolder(file, "a file", list));
    }

    [Fact]
    public void ReadingDoesNotChangeTheAccessTime()
    {
        using var folder = new TempFolder();
        var path = folder.Write("file", "content");
        Tools.Run("touch", ["-a", "-d", "2001-01-01 UTC", path]);
        var before = Tools.Run("stat", ["-c", "%X", path]);
        using (var handle = Posix.OpenRead(null, PosixName.Encode(path)))
        {
            var buffer = new byte[20];
            Assert.Equal(7, Posix.Read(handle, buffer, 0));
            Assert.Equal(0, Posix.Read(handle, buffer, 7));
            Assert.Equal(3, Posix.Read(handle, buffer, 4));
        }
        Assert.Equal(before, Tools.Run("stat", ["-c", "%X", path]));
    }

    [Fact]
    public void WhatIsMadeIsThereAndWhatIsTakenIsSaid()
    {
        using var folder = new TempFolder();
        using var handle = Posix.OpenFolder(null, PosixName.Encode(folder.Path));
        Assert.True(Posix.MakeFolder(handle, PosixName.Encode("d"), 0x1C0));
        Assert.False(Posix.MakeFolder(handle, PosixName.Encode("d"), 0x1C0));
        using (var file = Posix.CreateNew(handle, PosixName.Encode("f"), 0x180))
        {
            RandomAccess.Write(file, "abc"u8, 0);
            Posix.SetMode(file, 0x1A4);
            Posix.SetTime(file, new PosixTime(1_000_000_000, 123_456_789));
        }
        Assert.Equal("644 1000000000.123456789", Tools.Run("find", [folder.At("f"), "-printf", "%m %T@"])[..24]);
        Assert.Equal(Errno.Exists,
            Assert.Throws<NativeException>(() => Posix.CreateNew(handle, PosixName.Encode("f"), 0x180).Dispose()).Errno);
        Assert.Equal(0, Posix.TryHardLink(handle, PosixName.Encode("f"), handle, PosixName.Encode("g")));
        Assert.Equal(Errno.Exists, Posix.TryHardLink(handle, PosixName.Encode("f"), handle, PosixName.Encode("g")));
        Assert.Equal(2u, Posix.Stat(handle, PosixName.Encode("g")).LinkCount);
        Assert.Equal(Errno.Exists,
            Assert.Throws<NativeException>(() => Posix.Rename(folder.At("f"), folder.At("d"), replace: false)).Errno);
        Posix.Rename(folder.At("f"), folder.At("g2"), replace: false);
        Posix.Remove(handle, PosixName.Encode("g2"), folder: false);
        Posix.Remove(handle, PosixName.Encode("d"), folder: true);
        Assert.Equal(["g"], Directory.EnumerateFileSystemEntries(folder.Path).Select(Path.GetFileName));
    }

    [Fact]
    public void AttributesOfAnyLengthComeBack()
    {
        using var folder = new TempFolder();
        folder.Write("f", "x");
        using var handle = Posix.OpenFolder(null, PosixName.Encode(folder.Path));
        var name = PosixName.Encode("f");
        Assert.SkipWhen(Posix.TrySetAttribute(handle, name, "user.probe", "x"u8) == Errno.NotSupported,
            "this file system has no attributes");
        foreach (var length in (int[])[0, 1, 1000, 3500])
        {
            var value = Enumerable.Range(0, length).Select(i => (byte)i).ToArray();
            Assert.Equal(0, Posix.TrySetAttribute(handle, name, "user.probe", value));
            Assert.Equal(value, Posix.GetAttribute(handle, name, "user.probe"));
        }
        Assert.Contains("user.probe", Posix.ListAttributes(handle, name));
        Assert.Null(Posix.GetAttribute(handle, name, "user.absent"));
    }

    [Fact]
    public void LocksExcludeOtherHandlesUntilTheyAreGivenUp()
    {
        using var folder = new TempFolder();
        var path = folder.Write("f", "x");
        using var first = Posix.OpenFile(path, write: true);
        using var second = Posix.OpenFile(path, write: true);
        Assert.True(Posix.TryLock(first));
        Assert.False(Posix.TryLock(second));
        Posix.Unlock(first);
        Assert.True(Posix.TryLock(second));
        // flock(1) agrees.
        Assert.Equal(1, Tools.Try("flock", ["-n", path, "true"]).Code);
        Posix.Unlock(second);
        Assert.Equal(0, Tools.Try("flock", ["-n", path, "true"]).Code);
    }

    // The library's own places are looked into: what it has of a volume is held against the volume's first sector.
    [Fact]
    public void ALibraryWithOtherPlacesIsNoticed()
    {
        var boot = new byte[NtfsBootSector.Length];
        System.Buffers.Binary.BinaryPrimitives.WriteUInt16LittleEndian(boot.AsSpan(11), 512);
        boot[13] = 8;
        System.Buffers.Binary.BinaryPrimitives.WriteInt64LittleEndian(boot.AsSpan(40), 8 * 1000 + 7);
        var sector = NtfsBootSector.TryRead(boot)!.Value;
        Assert.Equal(new NtfsBootSector(4096, 1000), sector);
        Assert.Null(sector.Contradiction(3, 4096, 1000));
        Assert.Equal("NTFS of version 77", sector.Contradiction(77, 4096, 1000));
        Assert.Equal("clusters of 0 bytes where the volume has 4096", sector.Contradiction(3, 0, 1000));
        Assert.Equal("0 clusters where the volume has 1000", sector.Contradiction(3, 4096, 0));
        // 256 less 11: clusters of 2^11 sectors.
        boot[13] = 245;
        Assert.Equal(512 << 11, NtfsBootSector.TryRead(boot)!.Value.ClusterSize);
        boot.AsSpan(11, 2).Clear();
        Assert.Null(NtfsBootSector.TryRead(boot));
        Assert.Null(NtfsBootSector.TryRead(boot.AsSpan(0, 20)));
    }

    // A folder of a target that becomes a link meanwhile leads nowhere, at any step of the way.
    [Fact]
    public void NoLinkIsFollowedBelowATarget()
    {
        using var folder = new TempFolder();
        folder.Write("outside/inner/kept", "kept");
        folder.Write("target/a/b/c/file", "x");
        using var root = Posix.OpenFolder(null, PosixName.Encode(folder.At("target")), followLink: true);
        static byte[] Raw(string path) => [.. System.Text.Encoding.UTF8.GetBytes(path), 0];
        bool IsThere(string path) => PosixPath.BelowParent(root, Raw(path), (parent, name) => Posix.TryStat(parent, name, out _));
        Assert.True(IsThere("a/b/c/file"));
        Assert.False(IsThere("a/b/c/other"));
        Directory.Move(folder.At("target/a/b"), folder.At("moved"));
        File.CreateSymbolicLink(folder.At("target/a/b"), folder.At("outside"));
        Assert.Throws<NativeException>(() => IsThere("a/b/inner/kept"));
        File.Delete(folder.At("target/a/b"));
        File.CreateSymbolicLink(folder.At("target/a/b"), "../../outside");
        Assert.Throws<NativeException>(() => IsThere("a/b/inner/kept"));
        Assert.Throws<NativeException>(() => IsThere("../outside/inner/kept"));
        // Also a path that is too long for one call, which is gone step by step.
        var deep = string.Concat(Enumerable.Repeat("a/", 2100));
        Assert.Throws<NativeException>(() => IsThere(deep + "b/inner/kept"));
    }
}
