using System.Buffers.Binary;
using System.Text;
using Vembar.Common;
using Vembar.Volumes.Disks;
using Xunit;

namespace Vembar.Tests.Volumes;

/// <summary>Disk images that name what is not theirs: other files of this machine, servers, pipes, themselves.</summary>
public sealed class HostileImageTests : IDisposable
{
    private const int Length = 1 << 20;
    private readonly TempFolder _folder = new();

    public HostileImageTests()
    {
        Directory.CreateDirectory(_folder.At("images"));
        File.WriteAllText(_folder.At("secret"), new string('S', Length));
        File.CreateSymbolicLink(Image("link"), _folder.At("secret"));
        Tools.Run("mkfifo", [Image("pipe")]);
        File.WriteAllBytes(Image("base.raw"), [.. Enumerable.Repeat((byte)'B', Length)]);
    }

    public void Dispose() => _folder.Dispose();

    private string Image(string name) => _folder.At($"images/{name}");

    // What an image may say is beside it.
    public static TheoryData<string> Names =>
        ["{secret}", "../secret", "link", "pipe", "/dev/zero", "/proc/self/environ", "nbd://127.0.0.1:{port}", "nbd:unix:{socket}",
            "json:{\"driver\":\"raw\",\"file\":{\"driver\":\"file\",\"filename\":\"{secret}\"}}", "file:{secret}", "fat:rw:{folder}",
            "images",
            "a\nb", "../images/../secret", "missing"];

    private string Name(string name) => name.Replace("{secret}", _folder.At("secret"), StringComparison.Ordinal)
        .Replace("{folder}", _folder.Path, StringComparison.Ordinal).Replace("{socket}", _folder.At("socket"), StringComparison.Ordinal)
        .Replace("{port}", "1", StringComparison.Ordinal);

    private static void Refused(string path, params string[] codes)
    {
        foreach (var write in (bool[])[false, true])
        {
            var problem = Assert.Throws<VembarException>(() => DiskImage.Open(path, write).Dispose());
            Assert.Equal(ErrorKind.Input, problem.Kind);
            Assert.Contains(problem.Code, codes.Length > 0 ? codes : ["chain-outside", "chain-missing", "chain-unreadable"]);
            Assert.DoesNotContain('\n', problem.Message);
        }
    }

    private string Qcow2(string name, string? backing, string? format = "raw")
    {
        var path = Image(name);
        Tools.Run("qemu-img", ["create", "-q", "-f", "qcow2", path, "1M"]);
        if (backing is not null)
            Tools.Run("qemu-img", ["rebase", "-u", .. format is null ? Array.Empty<string>() : ["-F", format], "-b", backing, path]);
        return path;
    }

    // Names that qemu-img would not write: the header is changed behind it.
    private string Backing(string name)
    {
        const int NameAt = 1024;
        var path = Qcow2("top.qcow2", null);
        using var file = File.Open(path, FileMode.Open);
        var bytes = Encoding.UTF8.GetBytes(name);
        var head = new byte[12];
        BinaryPrimitives.WriteInt64BigEndian(head, NameAt);
        BinaryPrimitives.WriteInt32BigEndian(head.AsSpan(8), bytes.Length);
        file.Position = 8;
        file.Write(head);
        file.Position = NameAt;
        file.Write(bytes);
        return path;
    }

    [Theory]
    [MemberData(nameof(Names))]
    public void ABackingFileIsBesideTheImage(string name) => Refused(Backing(Name(name)));

    [Theory]
    [MemberData(nameof(Names))]
    public void ADataFileIsBesideTheImage(string name)
    {
        var path = Image("data.qcow2");
        Tools.Run("qemu-img", ["create", "-q", "-f", "qcow2", "-o", $"data_file={Image("its-data-file-with-a-long-name-to-write-over")}",
            path,
            "1M"]);
        var bytes = File.ReadAllBytes(path);
        // The extension 'DATA': kind, length, name.
        var at = bytes.AsSpan().IndexOf("DATA"u8);
        var said = Encoding.UTF8.GetBytes(Name(name));
        var room = BinaryPrimitives.ReadInt32BigEndian(bytes.AsSpan(at + 4));
        if (said.Length > room)
            return;
        bytes.AsSpan(at + 8, room).Clear();
        said.CopyTo(bytes, at + 8);
        BinaryPrimitives.WriteInt32BigEndian(bytes.AsSpan(at + 4), said.Length);
        // What follows is found by the length.
        bytes.AsSpan(at + 8 + (room + 7) / 8 * 8, 4096).CopyTo(bytes.AsSpan(at + 8 + (said.Length + 7) / 8 * 8));
        File.WriteAllBytes(path, bytes);
        Refused(path);
    }

    private string Vmdk(string extents, string more = "parentCID=ffffffff")
    {
        var path = Image("disk.vmdk");
        File.WriteAllText(path, $"# Disk DescriptorFile\nversion=1\nCID=fffffffe\n{more}\ncreateType=\"monolithicFlat\"\n{extents}\n");
        return path;
    }

    [Theory]
    [MemberData(nameof(Names))]
    public void AnExtentIsBesideTheImage(string name)
    {
        if (name.Contains('"', StringComparison.Ordinal) || name.Contains('\n', StringComparison.Ordinal))
            return;
        Refused(Vmdk($"RW 2048 FLAT \"{Name(name)}\" 0"));
        Refused(Vmdk($"RW 2048 SPARSE \"{Name(name)}\""));
        Refused(Vmdk("RW 2048 FLAT \"base.raw\" 0", $"parentCID=01234567\nparentFileNameHint=\"{Name(name)}\""), "chain-outside",
            "chain-missing", "chain-unreadable", "parent-missing");
    }

    // A header without a capacity would make the descriptor in the file count.
    [Theory]
    [InlineData(0)]
    [InlineData(-1)]
    public void ASparseImageHasNoDescriptorThatNamesFiles(long directory)
    {
        var bytes = new byte[64 << 10];
        "KDMV"u8.CopyTo(bytes);
        void Long(int at, long value) => BinaryPrimitives.WriteInt64LittleEndian(bytes.AsSpan(at), value);
        BinaryPrimitives.WriteInt32LittleEndian(bytes.AsSpan(4), 3);
        Long(20, 128);
        Long(28, 1);
        Long(36, 2);
        BinaryPrimitives.WriteInt32LittleEndian(bytes.AsSpan(44), 512);
        Long(56, directory);
        Encoding.ASCII.GetBytes("# Disk DescriptorFile\nversion=1\nCID=fffffffe\nparentCID=ffffffff\ncreateType=\"monolithicFlat\"\n"
            + $"RW 2048 FLAT \"{_folder.At("secret")}\" 0\n").CopyTo(bytes, 512);
        // The header in front of the end marker, with a capacity.
        bytes.AsSpan(0, 512).CopyTo(bytes.AsSpan(bytes.Length - 1024));
        BinaryPrimitives.WriteInt64LittleEndian(bytes.AsSpan(bytes.Length - 1024 + 12), 2048);
        BinaryPrimitives.WriteInt64LittleEndian(bytes.AsSpan(bytes.Length - 1024 + 56), 4);
        File.WriteAllBytes(Image("sparse.vmdk"), bytes);
        Refused(Image("sparse.vmdk"), "bad-disk-image");
        Refused(Vmdk("RW 2048 SPARSE \"sparse.vmdk\""), "bad-disk-image");
    }

    [Fact]
    public void AnImageThatStandsOnItselfIsRefusedAtOnce()
    {
        Refused(Qcow2("self.qcow2", "self.qcow2", "qcow2"), "disk-circle");
        Qcow2("a.qcow2", "b.qcow2", "qcow2");
        Refused(Qcow2("b.qcow2", "a.qcow2", "qcow2"), "disk-circle");
        Refused(Qcow2("deep-0.qcow2", Chain(70), "qcow2"), "disk-circle");
        using var most = DiskImage.Open(Qcow2("deep.qcow2", Chain(60), "qcow2"));
        using var device = most.OpenDevice();
        Assert.Equal((byte)'B', ReadByte(device, 0));
    }

    private string Chain(int layers)
    {
        var below = "base.raw";
        for (var i = 0; i < layers; i++)
        {
            Qcow2($"chain-{layers}-{i}.qcow2", below, i == 0 ? "raw" : "qcow2");
            below = $"chain-{layers}-{i}.qcow2";
        }
        return below;
    }

    private static byte ReadByte(IBlockDevice device, long at)
    {
        Span<byte> got = stackalloc byte[1];
        Assert.Equal(1, device.Read(got, at));
        return got[0];
    }

    private static byte FirstByte(string path, bool write = false, DiskReading? reading = null)
    {
        using var image = DiskImage.Open(path, write, reading);
        using var device = image.OpenDevice();
        return ReadByte(device, 0);
    }

    // A guest that owns a raw disk may write what looks like another format's header into it.
    [Fact]
    public void ARawBackingFileIsRawWhateverIsInIt()
    {
        var inner = Qcow2("inner.qcow2", _folder.At("secret"));
        Assert.Equal((byte)'Q', FirstByte(Qcow2("outer.qcow2", "inner.qcow2")));
        Refused(Qcow2("outer.qcow2", "inner.qcow2", "qcow2"), "chain-outside");
        Refused(Qcow2("wrong.qcow2", "base.raw", "vmdk"), "bad-disk-image");
        Refused(inner, "chain-outside");
    }

    [Fact]
    public void WhatIsBesideOrBelowOrAllowedIsRead()
    {
        Directory.CreateDirectory(Image("below"));
        File.Copy(Image("base.raw"), Image("below/base.raw"));
        File.CreateSymbolicLink(Image("inside"), "below/base.raw");
        foreach (var name in (string[])["base.raw", "below/base.raw", "inside", "./below/../base.raw", Image("base.raw")])
            Assert.Equal((byte)'B', FirstByte(Backing(name), write: true));
        Assert.Equal((byte)'B', FirstByte(Vmdk("RW 2048 FLAT \"below/base.raw\" 0")));
        Assert.Equal((byte)'S', FirstByte(Backing(_folder.At("secret")), reading: new DiskReading(ChainFolders: [_folder.Path])));
        Assert.Equal((byte)'S', FirstByte(Backing("../secret"), reading: new DiskReading(ChainFolders: [_folder.Path])));
    }

    // A flat image is written through a descriptor of ours; that its content changed is kept in its own.
    [Fact]
    public void AnImageOfSeveralFilesIsWritten()
    {
        var path = Image("flat.vmdk");
        Tools.Run("qemu-img", ["create", "-q", "-f", "vmdk", "-o", "subformat=monolithicFlat", path, "1M"]);
        var before = File.ReadAllText(path);
        using (var image = DiskImage.Open(path, write: true))
        {
            using (var device = image.OpenDevice())
            {
                device.Write("new"u8, 4096);
                device.Flush();
            }
            image.Finish();
        }
        var after = File.ReadAllText(path);
        Assert.Equal(WithoutId(before), WithoutId(after));
        Assert.DoesNotContain("/proc/", after, StringComparison.Ordinal);
        Assert.NotEqual(before, after);
        using var again = DiskImage.Open(path);
        using var read = again.OpenDevice();
        Assert.Equal((byte)'n', ReadByte(read, 4096));
    }

    private static string WithoutId(string descriptor) =>
        System.Text.RegularExpressions.Regex.Replace(descriptor, "(?m)^CID=[0-9a-f]+$", "CID=").TrimEnd('\0');

    // Some writers leave zeros in front of an identifier away: it still says that there is a parent, and which.
    [Theory]
    [InlineData("1234567", "01234567")]
    [InlineData("01234567", "1234567")]
    [InlineData("ABCDEF01", "abcdef01")]
    public void AnIdentifierIsANumber(string parent, string own)
    {
        File.WriteAllText(Image("parent.vmdk"), $"# Disk DescriptorFile\nversion=1\nCID={own}\nparentCID=ffffffff\n"
            + "createType=\"monolithicFlat\"\n# Extent description\nRW 2048 FLAT \"base.raw\" 0\n");
        var sparse = Image("child-s001.vmdk");
        Tools.Run("qemu-img", ["create", "-q", "-f", "vmdk", sparse, "1M"]);
        var child = Vmdk("RW 2048 SPARSE \"child-s001.vmdk\"", $"parentCID={parent}\nparentFileNameHint=\"parent.vmdk\"");
        Assert.Equal((byte)'B', FirstByte(child));
        File.WriteAllText(Image("parent.vmdk"), File.ReadAllText(Image("parent.vmdk")).Replace(own, "7", StringComparison.Ordinal));
        Assert.Equal("parent-missing", Assert.Throws<VembarException>(() => DiskImage.Open(child).Dispose()).Code);
    }

    [Fact]
    public void ADataFileIsComparedWithTheTables()
    {
        var (path, data) = (Image("data.qcow2"), Image("data.raw"));
        Tools.Run("qemu-img", ["convert", "-f", "raw", "-O", "qcow2", "-o", $"data_file={data}", Image("base.raw"), path]);
        Assert.Equal((byte)'B', FirstByte(path));
        using (var file = File.OpenWrite(data))
            file.SetLength(Length * 3 / 4);
        Refused(path, "disk-cut-short");
    }
}
