using System.Diagnostics;
using Vembar.Common;
using Vembar.Operations;
using Vembar.Operations.Deploy;
using Vembar.Operations.Survey;
using Vembar.Volumes.Disks;
using Vembar.Windows.Servicing.Files;
using Xunit;

namespace Vembar.Tests;

/// <summary>What must not be written is not, and what was begun and not finished is said.</summary>
public class DiskSafetyTests
{
    private static VembarException Refused(string archive, string target, Func<DeployRequest, DeployRequest> with) =>
        Assert.Throws<VembarException>(() => Do.Deploy(archive, target, with));

    [Fact]
    public void ArchivesAreNoDisks()
    {
        using var folder = new TempFolder();
        var archive = SmallDisks.Archive(folder);
        folder.Write("more/x", "y");
        Do.Capture(folder.At("more"), folder.At("based.vmb"), "based", r => r with { BasedOn = archive });
        File.Copy(archive, folder.At("other.vmb"));
        File.CreateSymbolicLink(folder.At("link.img"), archive);
        foreach (var target in new[] { archive, folder.At("other.vmb"), folder.At("link.img") })
        {
            var before = File.ReadAllBytes(target);
            Assert.Equal("target-is-archive", Refused(folder.At("based.vmb"), target, r => r with { MayErase = _ => true }).Code);
            Assert.Equal("target-is-archive", Refused(archive, target, r => r with { Volume = 1 }).Code);
            Assert.Equal(before, File.ReadAllBytes(target));
        }
        Assert.Equal("named-like-an-archive", Refused(archive, folder.At("new.vmb"), r => r with { Size = 8L << 30 }).Code);
        Assert.Equal("bad-size", Refused(archive, folder.At("new.img"), r => r with { Size = 64 }).Code);
        Assert.Equal("bad-size", Refused(archive, folder.At("new.img"), r => r with { Size = 70L << 40 }).Code);
        Assert.False(File.Exists(folder.At("new.img")));
    }

    [Fact]
    public void ADiskInUseIsNotTouched()
    {
        using var folder = new TempFolder();
        var archive = SmallDisks.Archive(folder);
        var disk = SmallDisks.Sparse(folder, "disk.img", 400 << 20);
        var request = (DeployRequest r) => r with { MayErase = _ => true, Layout = folder.At("layout.yaml") };
        // As a virtual machine has it.
        using (var server =
            Process.Start(new ProcessStartInfo("qemu-nbd", ["--format=raw", $"--socket={folder.At("socket")}", "--persistent", disk]))!)
        {
            // The socket may be there before the disk is opened; the kernel tells when it is locked.
            var inode = Tools.Run("stat", ["-c", "%i", disk]).Trim();
            while (!File.ReadLines("/proc/locks").Any(l => l.Contains($":{inode} ", StringComparison.Ordinal)) && !server.HasExited)
                Thread.Sleep(10);
            Assert.Equal("disk-in-use", Refused(archive, disk, request).Code);
            server.Kill();
            server.WaitForExit();
        }
        // As this machine has it.
        var loop = Tools.Try("losetup", ["--find", "--show", disk]);
        if (loop.Code == 0)
        {
            Assert.Contains("is set up on it", Refused(archive, disk, request).Message, StringComparison.Ordinal);
            Tools.Run("losetup", ["-d", loop.Output.Trim()]);
        }
        Assert.Empty(Do.Deploy(archive, disk, request).Differences);
        // A damaged table is a reason to erase the disk.
        using (var device = FileDevice.Open(disk, write: true))
        {
            device.Write(new byte[] { 0xFF, 0xFF }, 512 + 60);
            device.Write(new byte[] { 0xFF, 0xFF }, device.Length - 512 + 60);
        }
        Assert.Equal("bad-partition-table", Assert.Throws<VembarException>(() => Disk.Open(disk)).Code);
        SurveyResult? asked = null;
        Assert.Empty(Do.Deploy(archive, disk, r => request(r) with { MayErase = found => (asked = found) is not null }).Differences);
        Assert.Contains("damaged", Assert.Single(asked!.Warnings), StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("disk.img")]
    [InlineData("disk.qcow2")]
    public async Task OfTwoThatMakeOneDiskOneMakesItAndTheOtherLeavesIt(string name)
    {
        using var folder = new TempFolder();
        var archive = SmallDisks.Archive(folder);
        Exception? Try()
        {
            try
            {
                Do.Deploy(archive, folder.At(name), r => r with { Size = 400 << 20, Layout = folder.At("layout.yaml") });
                return null;
            }
            catch (VembarException problem)
            {
                return problem;
            }
        }
        for (var round = 0; round < 3; round++)
        {
            var ends = await Task.WhenAll(Task.Run(Try), Task.Run(Try), Task.Run(Try));
            Assert.Equal(2, ends.Count(e => e is VembarException { Code: "target-exists" or "disk-in-use" }));
            using (var disk = Disk.Open(folder.At(name)))
                Assert.Equal("Windows", disk.Volumes.Single().FileSystem.Label);
            File.Delete(folder.At(name));
        }
    }

    [System.Runtime.InteropServices.DllImport("libc")]
    private static extern int dup(int file);

    [System.Runtime.InteropServices.DllImport("libc")]
    private static extern int close(int file);

    // A process that is just being started holds all that its parent has open for a moment, as these do.
    [Fact]
    public void ADiskIsFreeAtOnceAlsoWhileAProcessIsStarted()
    {
        using var folder = new TempFolder();
        var disk = folder.Write("disk.img", new byte[1 << 20]);
        List<int> held;
        using (DiskImage.Open(disk, write: true))
        {
            held = [.. Directory.GetFileSystemEntries("/proc/self/fd").Where(e => new FileInfo(e).LinkTarget == disk)
                .Select(e => dup(int.Parse(Path.GetFileName(e), System.Globalization.CultureInfo.InvariantCulture)))];
            Assert.NotEmpty(held);
        }
        try
        {
            DiskImage.Open(disk, write: true).Dispose();
        }
        finally
        {
            Assert.All(held, h => Assert.Equal(0, close(h)));
        }
    }

    [Fact]
    public void DisksAboveTwoTebibytesAreDividedAndReadBack()
    {
        using var folder = new TempFolder();
        var archive = SmallDisks.Archive(folder);
        var disk = folder.At("large.img");
        var done = Do.Deploy(archive, disk, r => r with { Size = 3L << 40 });
        Assert.Empty(done.Differences);
        Assert.Equal(["efi", "reserved", "windows", "recovery"], done.Volumes.Select(v => v.Role));
        Assert.Contains("3.0 TiB", Tools.Run("sgdisk", ["-p", disk]), StringComparison.Ordinal);
        Assert.Contains("No problems found", Tools.Run("sgdisk", ["-v", disk]), StringComparison.Ordinal);
        Do.Capture(disk, archive, "back", r => r with { Volume = 3 });
    }

    [Fact]
    public void HolesTakeNoRoomAndNoTime()
    {
        using var folder = new TempFolder();
        folder.Write("src/small", "small");
        var hole = SmallDisks.Sparse(folder, "src/hole", 1L << 40);
        using (var file = File.OpenWrite(hole))
        {
            file.Position = 1L << 39;
            file.Write("in the middle"u8);
        }
        var archive = folder.At("a.vmb");
        var captured = Do.Capture(folder.At("src"), archive);
        Assert.Equal((1L << 40) + 5, captured.Image.Bytes);
        Assert.InRange(captured.Stats.BytesRead, 1, 1 << 20);
        var deployed = Do.Deploy(archive, folder.At("out"));
        Assert.Empty(deployed.Differences);
        Assert.InRange(long.Parse(Tools.Run("du", ["-k", folder.At("out/hole")]).Split('\t')[0],
            System.Globalization.CultureInfo.InvariantCulture), 0, 100);
        // It is the same file the next time, read or not.
        Assert.Equal(captured.Image.Root, Do.Capture(folder.At("src"), archive, "two", r => r with { Reread = true }).Image.Root);
        // A byte in the middle of nothing is found.
        using (var file = File.OpenWrite(folder.At("out/hole")))
        {
            file.Position = 1L << 38;
            file.WriteByte(1);
        }
        Tools.Run("touch", ["-r", hole, folder.At("out/hole")]);
        var request = new DeployRequest { Image = ImageReference.Parse(archive + "#1"), Target = folder.At("out"), KeepExisting = true };
        Assert.Equal(2, Do.Deploy(request, NoProgress.Instance, CancellationToken.None).Kept.Count);
        Do.Service(archive + "#1", "put", new PutChange(hole, "put"));
    }
}
