using Vembar.Common;
using Vembar.Images.Paths;
using Vembar.Operations;
using Vembar.Operations.Deploy;
using Vembar.Operations.Survey;
using Vembar.Store.Compression;
using Vembar.Volumes.Disks;
using Vembar.Volumes.Targets;
using Vembar.Windows.Install;
using Vembar.Windows.Registry;
using Xunit;

namespace Vembar.Tests;

/// <summary>Disks that are divided, written and made to start.</summary>
public class DiskTargetTests(DemoDisks demo)
{
    [Fact]
    public void BootFilesAndStoreFitTheDisk()
    {
        using var folder = new TempFolder();
        var archive = folder.At("a.vmb");
        Do.Capture(demo.LendingDesk, archive);
        foreach (var layout in (string[])["uefi", "bios"])
        {
            var path = folder.At($"{layout}.img");
            Do.Deploy(archive, path, r => r with { Size = 1700L << 20, Layout = layout, Verify = false });
            using var disk = Disk.Open(path);
            var boot = disk.Volumes[0];
            Tools.Run("dd", [$"if={path}", $"of={folder.At("boot.img")}", "bs=1M", $"skip={boot.Start >> 20}",
                $"count={boot.Length >> 20}", "conv=sparse", "status=none"]);
            if (layout == "uefi")
            {
                Tools.Run("fsck.fat", ["-n", folder.At("boot.img")]);
                Tools.Run("mcopy", ["-n", "-i", folder.At("boot.img"), "::/EFI/Microsoft/Boot/BCD", folder.At("BCD")]);
                Assert.Contains("::/EFI/Boot/bootx64.efi", Tools.Run("mdir", ["-/", "-b", "-i", folder.At("boot.img"), "::"]),
                    StringComparison.Ordinal);
            }
            else
            {
                using var source = ResolvedSource.OpenVolume(disk, boot);
                Assert.True(source.Exists(WindowsPath.Parse("bootmgr")));
                File.WriteAllBytes(folder.At("BCD"), source.ReadFile(WindowsPath.Parse("Boot/BCD"), 1 << 20)!);
            }
            var store = Tools.Run("reglookup", [folder.At("BCD")]);
            Assert.Contains($@"Element,SZ,\Windows\system32\winload.{(layout == "uefi" ? "efi" : "exe")}", store, StringComparison.Ordinal);
            // The store names this very partition: by its GUID, or by the disk's signature and where it begins.
            var windows = disk.Volumes.Single(v => v.FileSystem.Label == "Windows").Partition!;
            var hive = RegistryHive.Open(File.ReadAllBytes(folder.At("BCD")), write: false, "BCD");
            var manager = hive.Key(@"Objects\{9dea862c-5cdd-4e70-acc1-f32b344d4795}\Elements")!;
            var loader = hive.Key($@"Objects\{manager.Key("23000003")!.GetString("Element")}\Elements")!;
            var device = loader.Key("21000001")!.Get("Element")!.Value.Bytes;
            Assert.Equal(88, device.Length);
            if (layout == "uefi")
            {
                Assert.Equal(windows.Id, new Guid(device.AsSpan(32, 16)));
                Assert.Equal(disk.Table.DiskId, new Guid(device.AsSpan(56, 16)));
            }
            else
                Assert.Equal(windows.Start, BitConverter.ToInt64(device, 32));
            Tools.Run("regfexport", [folder.At("BCD")]);
        }
    }

    [Fact]
    public void ADiskThatCannotBeFinishedIsTakenAway()
    {
        using var folder = new TempFolder();
        var archive = folder.At("a.vmb");
        var noise = new byte[80 << 20];
        new Random(1).NextBytes(noise);
        folder.Write("src/large.bin", noise);
        Do.Capture(folder.At("src"), archive, with: r => r with { Effort = Effort.Quick });
        var layout = folder.Write("small.yaml", "partitions:\n  - role: windows\n    size: 64 MiB\n");
        Assert.Equal("no-room", Assert.Throws<VembarException>(() => Do.Deploy(archive, folder.At("d.img"), r => r with
        {
            Size = 200 << 20,
            Layout = layout,
        })).Code);
        Assert.False(File.Exists(folder.At("d.img")));
        Assert.Equal("disk-too-small", Assert.Throws<VembarException>(() => Do.Deploy(archive, folder.At("d.img"), r => r with
        {
            Size = 200 << 20,
        })).Code);
        Assert.False(File.Exists(folder.At("d.img")));
        // A disk that is there is touched only when that was confirmed.
        File.WriteAllText(folder.At("old.img"), "precious");
        using (var old = File.OpenWrite(folder.At("old.img")))
            old.SetLength(400L << 20);
        Assert.Equal("target-exists", Assert.Throws<VembarException>(() => Do.Deploy(archive, folder.At("old.img"))).Code);
        Assert.Equal("not-confirmed", Assert.Throws<VembarException>(() => Do.Deploy(archive, folder.At("old.img"), r => r with
        {
            MayErase = _ => false,
            Layout = folder.Write("fits.yaml", "partitions:\n  - role: windows\n    size: 300 MiB\n"),
        })).Code);
        // So it is when the image does not go into the partition, or the layout not onto the disk: both are known before.
        var asked = false;
        bool Ask(SurveyResult found) => asked = true;
        Assert.Equal("no-room", Assert.Throws<VembarException>(() => Do.Deploy(archive, folder.At("old.img"), r => r with
        {
            MayErase = Ask,
            Layout = layout,
        })).Code);
        Assert.Equal("disk-too-small", Assert.Throws<VembarException>(() => Do.Deploy(archive, folder.At("old.img"), r => r with
        {
            MayErase = Ask,
        })).Code);
        Assert.False(asked);
        Assert.Equal("precious", Tools.Run("head", ["-c", "8", folder.At("old.img")]));
    }

    [Fact]
    public void ANotedDiskIsGoneOnWithUnlessItIsGivenUp()
    {
        using var folder = new TempFolder();
        for (var i = 0; i < 40; i++)
            folder.Write($"src/f{i:00}.bin", new byte[50_000 + i]);
        var archive = folder.At("a.vmb");
        Do.Capture(folder.At("src"), archive, "one");
        var disk = folder.At("disk.img");
        using (var file = File.Create(disk))
            file.SetLength(2L << 30);
        var request = new DeployRequest
        {
            Image = new ImageReference(archive, "1"),
            Target = disk,
            MayErase = _ => true,
            Note = "whose it is",
            Verify = true,
        };
        DiskNote? Note()
        {
            using var image = DiskImage.Open(disk);
            using var device = image.OpenDevice();
            return DiskNote.Read(device);
        }
        void Stop(DeployRequest what)
        {
            using var stop = new StopAfter(20);
            Assert.Equal(VembarException.Interrupted, Assert.Throws<VembarException>(() => Do.Deploy(what, stop, stop.Token)).Code);
        }
        Stop(request);
        Assert.Equal("whose it is", Note()!.Text);
        Assert.InRange(Do.Deploy(request).Resumed, 10, 39);
        // All of it is there, and the note until whoever began it takes it away.
        Assert.Equal(40, Do.Deploy(request).Resumed);
        using (var image = DiskImage.Open(disk, write: true))
        {
            using var device = image.OpenDevice();
            DiskNote.Remove(device);
        }
        Assert.Null(Note());
        Assert.Equal(0, Do.Deploy(request).Resumed);
        // With other answers it is another deployment; given up, it leaves a disk that holds nothing.
        Stop(request with { IsGivenUp = _ => true, Layout = "bios" });
        Assert.Null(Note());
        using var left = Disk.Open(disk);
        Assert.Equal(PartitionScheme.None, left.Table.Scheme);
    }

    [Fact]
    public void WhatWasErasedBeforeAFailureIsSaid()
    {
        using var folder = new TempFolder();
        var archive = SmallDisks.Archive(folder);
        var disk = SmallDisks.Sparse(folder, "disk.img", 400 << 20);
        var request = new DeployRequest
        {
            Image = ImageReference.Parse(archive),
            Target = disk,
            MayErase = _ => true,
            Layout = folder.At("layout.yaml"),
        };
        foreach (var phase in new[] { "writing files", "dividing and formatting" })
        {
            File.WriteAllText(folder.At("mark"), "mark");
            using (var open = File.OpenWrite(disk))
                open.Write("precious"u8);
            using var stop = new CancellationTokenSource();
            var told = Assert.ThrowsAny<Exception>(() => Do.Deploy(request, new StopAt(phase, stop), stop.Token));
            if (phase == "writing files")
            {
                Assert.Equal(VembarException.Interrupted, Assert.IsType<VembarException>(told).Code);
                Assert.Contains("was erased before that", told.Message, StringComparison.Ordinal);
                using var left = Disk.Open(disk);
                Assert.Equal(PartitionScheme.None, left.Table.Scheme);
            }
            else
            {
                // Interrupted before the first byte.
                Assert.IsAssignableFrom<OperationCanceledException>(told);
                Assert.Equal("precious", Tools.Run("head", ["-c", "8", disk]));
            }
        }
        // A new image that is not finished is taken away.
        using var again = new CancellationTokenSource();
        Assert.ThrowsAny<OperationCanceledException>(() => Do.Deploy(request with
        {
            Target = folder.At("new.img"),
            MayErase = null,
            Size = 400 << 20,
        }, new StopAt("writing files", again), again.Token));
        Assert.False(File.Exists(folder.At("new.img")));
    }
}
