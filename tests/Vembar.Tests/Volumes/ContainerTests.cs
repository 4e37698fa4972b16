using System.Buffers.Binary;
using Vembar.Common;
using Vembar.Operations;
using Vembar.Volumes.Disks;
using Vembar.Windows.Install;
using Xunit;

namespace Vembar.Tests.Volumes;

/// <summary>Disk images that are cut short, or say that they were not closed: nothing of them is read as zeros.</summary>
public sealed class ContainerTests(DemoDisks demo) : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    // As qemu-img names them, with the end of the file's name.
    public static TheoryData<string, string, string> Formats => new()
    {
        { "qcow2", "", "qcow2" }, { "qcow2", "compression", "qcow2" }, { "qcow2", "extended_l2=on", "qcow2" },
        { "qcow2", "cluster_size=512", "qcow2" }, { "vmdk", "", "vmdk" }, { "vmdk", "subformat=streamOptimized", "vmdk" },
        { "vmdk", "subformat=twoGbMaxExtentSparse", "vmdk" }, { "vmdk", "subformat=monolithicFlat", "vmdk" }, { "vpc", "", "vhd" },
        { "vpc", "subformat=fixed", "vhd" }, { "vhdx", "", "vhdx" }, { "vdi", "", "vdi" },
    };

    private string Convert(string format, string options, string ending)
    {
        var path = _folder.At($"disk.{ending}");
        string[] more = options switch { "" => [], "compression" => ["-c"], _ => ["-o", options] };
        Tools.Run("qemu-img", ["convert", "-f", "vhdx", "-O", format, .. more, demo.LendingDesk, path]);
        return path;
    }

    // Of an image in several files the one that holds the content.
    private string Content(string path) => Directory.EnumerateFiles(_folder.Path, "disk*").OrderByDescending(f => new FileInfo(f).Length)
        .First(f => f != path || Directory.EnumerateFiles(_folder.Path, "disk*").Count() == 1 || new FileInfo(f).Length > 1 << 20);

    private static void Cut(string path, long length)
    {
        using var file = File.OpenWrite(path);
        file.SetLength(length);
    }

    [Theory]
    [MemberData(nameof(Formats))]
    public void AWholeOneIsReadAndACutOneIsRefused(string format, string options, string ending)
    {
        var path = Convert(format, options, ending);
        using (var found = ResolvedSource.Open(path, null))
            Assert.NotNull(WindowsInstall.FindFolder(found.Source));
        var content = Content(path);
        var whole = new FileInfo(content).Length;
        // A stream ends with padding that nothing needs.
        var least = options.Contains("stream", StringComparison.Ordinal) ? 1 << 17 : 512;
        foreach (var length in (long[])[whole - least, whole * 95 / 100, whole * 80 / 100 / 512 * 512, whole / 2])
        {
            Cut(content, length);
            var problem = Assert.Throws<VembarException>(() => ResolvedSource.Open(path, null).Dispose());
            Assert.Equal((ErrorKind.Input, "disk-cut-short"), (problem.Kind, problem.Code));
        }
    }

    // What is left is captured, what is missing is excluded and listed: never a zero that is not in the source.
    [Theory]
    [InlineData("qcow2", "", "qcow2")]
    [InlineData("vmdk", "", "vmdk")]
    [InlineData("vmdk", "subformat=twoGbMaxExtentSparse", "vmdk")]
    [InlineData("vdi", "", "vdi")]
    public void ARescueListsWhatIsMissing(string format, string options, string ending)
    {
        var path = Convert(format, options, ending);
        var archive = _folder.At("a.vmb");
        var whole = Do.Capture(path, archive, "whole");
        Cut(Content(path), new FileInfo(Content(path)).Length * 90 / 100);
        Assert.Throws<VembarException>(() => Do.Capture(path, archive, "cut"));
        var rescued = Do.Capture(path, archive, "rescued", r => r with
        {
            Reading = new DiskReading(AcceptDamaged: true),
            AcceptUnready = true,
            Reread = true
        });
        Assert.Contains(rescued.Warnings, w => w.Contains("is cut short", StringComparison.Ordinal));
        var missing = rescued.Excluded.Where(l => l.Rule.StartsWith("unreadable", StringComparison.Ordinal)).ToList();
        Assert.NotEmpty(missing);
        Assert.True(rescued.Image.Files < whole.Image.Files);
        // Each file that is there is as it was.
        var diff = Do.Diff(ImageReference.Parse($"{archive}#whole"), ImageReference.Parse($"{archive}#rescued"));
        Assert.Empty(diff.Changed.Where(c => c.What.Contains("content")).Select(c => c.Path));
    }

    [Fact]
    public void MarksOfImagesThatWereNotClosedAreNotPassedOver()
    {
        void Demand(string path, string part)
        {
            var problem = Assert.Throws<VembarException>(() => DiskImage.Open(path).Dispose());
            Assert.Contains(part, problem.Message, StringComparison.Ordinal);
            DiskImage.Open(path, reading: new DiskReading(AcceptDamaged: true)).Dispose();
        }
        void Change(string path, long at, byte value)
        {
            using var file = File.OpenWrite(path);
            file.Position = at < 0 ? file.Length + at : at;
            file.WriteByte(value);
        }
        var qcow2 = Convert("qcow2", "", "qcow2");
        Change(qcow2, 79, 1);
        Demand(qcow2, "dirty bit");
        Change(qcow2, 79, 2);
        Demand(qcow2, "corrupt");
        var vmdk = Convert("vmdk", "", "vmdk");
        Change(vmdk, 72, 1);
        Demand(vmdk, "not closed properly");
        var vhd = Convert("vpc", "subformat=fixed", "vhd");
        SavedState(vhd);
        Demand(vhd, "saved state");
    }

    // With the checksum that goes with it.
    private static void SavedState(string path)
    {
        using var file = File.Open(path, FileMode.Open);
        var footer = new byte[512];
        file.Position = file.Length - footer.Length;
        file.ReadExactly(footer);
        footer[84] = 1;
        Seal(footer);
        file.Position = file.Length - footer.Length;
        file.Write(footer);
    }

    private static void Seal(byte[] footer)
    {
        footer.AsSpan(64, 4).Clear();
        BinaryPrimitives.WriteUInt32BigEndian(footer.AsSpan(64), ~(uint)footer.Sum(b => b));
    }

    // The size in the footer counts, whoever wrote it; the geometry gives less.
    [Fact]
    public void AVhdOfAnotherMakerIsReadToItsEnd()
    {
        var path = Convert("vpc", "subformat=fixed,force_size=on", "vhd");
        using (var file = File.Open(path, FileMode.Open))
        {
            var footer = new byte[512];
            file.Position = file.Length - footer.Length;
            file.ReadExactly(footer);
            "abcd"u8.CopyTo(footer.AsSpan(28));
            // One cylinder less than there are.
            BinaryPrimitives.WriteUInt16BigEndian(footer.AsSpan(56), (ushort)(BinaryPrimitives.ReadUInt16BigEndian(footer.AsSpan(56)) - 1));
            Seal(footer);
            file.Position = file.Length - footer.Length;
            file.Write(footer);
        }
        using var disk = DiskImage.Open(path);
        Assert.Equal(new FileInfo(path).Length - 512, disk.Length);
    }

    [Fact]
    public void AFixedVhdWithoutItsFooterIsNoRawDisk()
    {
        var path = Convert("vpc", "subformat=fixed", "vhd");
        Cut(path, new FileInfo(path).Length - 512);
        var problem = Assert.Throws<VembarException>(() => DiskImage.Open(path).Dispose());
        Assert.Contains("its name says VHD", problem.Message, StringComparison.Ordinal);
    }

    // A parent that is cut short is no better than a disk that is.
    [Fact]
    public void ACutParentIsRefused()
    {
        var parent = Convert("qcow2", "", "qcow2");
        var child = _folder.At("child.qcow2");
        Tools.Run("qemu-img", ["create", "-q", "-f", "qcow2", "-b", parent, "-F", "qcow2", child]);
        using (var found = ResolvedSource.Open(child, null))
            Assert.NotNull(WindowsInstall.FindFolder(found.Source));
        Cut(parent, new FileInfo(parent).Length * 9 / 10);
        Assert.Equal("disk-cut-short", Assert.Throws<VembarException>(() => ResolvedSource.Open(child, null).Dispose()).Code);
        var circle = _folder.At("circle.qcow2");
        Tools.Run("qemu-img", ["create", "-q", "-f", "qcow2", circle, "1G"]);
        Tools.Run("qemu-img", ["rebase", "-u", "-b", circle, "-F", "qcow2", circle]);
        Assert.Equal("disk-circle", Assert.Throws<VembarException>(() => DiskImage.Open(circle).Dispose()).Code);
    }

    // Whatever a header says: one line, never a crash, never much memory.
    [Theory]
    [MemberData(nameof(Formats))]
    public void DamagedTablesAreRefusedOrRead(string format, string options, string ending)
    {
        var path = Convert(format, options, ending);
        var random = new Random(35);
        var before = File.ReadAllBytes(path);
        var tables = Math.Min(before.Length, 1 << 18);
        for (var round = 0; round < 60; round++)
        {
            var damaged = before.AsSpan(0, tables).ToArray();
            for (var i = 0; i < 1 + round % 4; i++)
                damaged[random.Next(round % 2 == 0 ? 512 : tables)] = (byte)random.Next(256);
            using (var file = File.OpenWrite(path))
                file.Write(damaged);
            try
            {
                DiskImage.Check(path, new DiskReading(AcceptDamaged: true));
            }
            catch (VembarException problem)
            {
                Assert.Equal(ErrorKind.Input, problem.Kind);
            }
        }
    }
}
