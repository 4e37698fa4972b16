using Vembar.Tests;
using Vembar.Volumes.Disks;
using Xunit;

namespace Vembar.Cli.Tests;

/// <summary>Disks as sources and targets, with the program run as a user runs it.</summary>
public class DiskTests(World world)
{
    private static void Refused(int code, string says, params string[] arguments)
    {
        var plain = Vembar.Run(arguments);
        Assert.True(plain.Code == code, $"{string.Join(' ', arguments)}: {plain.Code}\n{plain.Output}{plain.Error}");
        Assert.Contains(says, plain.Error, StringComparison.Ordinal);
        Assert.DoesNotContain("   at ", plain.Error, StringComparison.Ordinal);
        var json = Vembar.Run([.. arguments, "--json"]);
        Assert.Equal(code, json.Code);
        Assert.True(json.JsonError.GetProperty("message").GetString()!.Length > 0);
    }

    private string Raw(TempFolder folder)
    {
        Tools.Run("qemu-img", ["convert", "-O", "raw", world.At("disks/lending-desk.vhdx"), folder.At("d.img")]);
        return folder.At("d.img");
    }

    [Fact]
    public void SurveyAndReadySayWhatThereIs()
    {
        var survey = Vembar.Run("survey", world.At("disks/lending-desk.vhdx"), "--json").Json;
        Assert.Equal("gpt", survey.GetProperty("disk").GetProperty("scheme").GetString());
        Assert.Equal(["EFI system", "reserved", "Windows", "recovery"],
            survey.GetProperty("volumes").EnumerateArray().Select(v => v.GetProperty("role").GetString()));
        Assert.Equal("generalized", survey.GetProperty("volumes")[2].GetProperty("windows").GetProperty("state").GetString());
        var ready = Vembar.Run("ready", world.At("disks/lending-desk.vhdx"), "--rules", world.At("house/readiness.yaml"), "--json");
        Assert.Equal((0, "ready"), (ready.Code, ready.Json.GetProperty("verdict").GetString()));
        var not = Vembar.Run("ready", world.At("spoiled/password-left.qcow2"), "--json");
        Assert.Equal((1, "not-ready"), (not.Code, not.Json.GetProperty("verdict").GetString()));
        Assert.Equal("stop", not.Json.GetProperty("findings")[0].GetProperty("severity").GetString());
        Assert.Contains("to fix", Vembar.Run("ready", world.At("spoiled/password-left.qcow2")).Output, StringComparison.Ordinal);
        Refused(3, "not ready to be captured", "capture", world.At("spoiled/hibernated.qcow2"),
            Path.Combine(Path.GetTempPath(), $"{Guid.NewGuid():N}.vmb"), "--name", "x");
        Refused(3, "there is no", "ready", world.At("disks/none.vhdx"));
        Refused(3, "holds no Windows", "ready", world.At("drivers"));
    }

    [Fact]
    public void AnOrdinaryUserNeedsNoRoot()
    {
        if (Environment.UserName != "root")
            return;
        using var folder = new TempFolder();
        Tools.Run("chmod", ["755", folder.Path]);
        Tools.Run("sh",
            ["-c", $"cp -r '{Path.GetDirectoryName(Vembar.Path)}' '{folder.At("program")}' && mkdir '{folder.At("own")}' && chmod -R "
            + $"a+rX '{folder.Path}' && chown 65534:65534 '{folder.At("own")}'"]);
        string As(params string[] arguments) =>
            Tools.Run("setpriv", ["--reuid=65534", "--regid=65534", "--clear-groups", "env", $"HOME={folder.At("own")}",
            $"TMPDIR={folder.At("own")}", $"DOTNET_BUNDLE_EXTRACT_BASE_DIR={folder.At("own")}", folder.At("program/vembar"), .. arguments],
            folder.At("own"));
        Assert.Contains("Windows 11", As("survey", world.At("disks/lending-desk.vhdx")), StringComparison.Ordinal);
        As("ready", world.At("disks/reading-room.vhdx"));
        As("capture", world.At("disks/lending-desk.vhdx"), "own.vmb", "--name", "own");
        Assert.Contains("all is as it is in the image", As("deploy", "own.vmb", "own.qcow2", "--size", "2 GiB", "--verify"),
            StringComparison.Ordinal);
        Assert.Contains("all is as it is in the image",
            As("deploy", "own.vmb", "own.img", "--size", "2 GiB", "--layout", "bios", "--verify"), StringComparison.Ordinal);
        File.WriteAllText(folder.At("own/hostile.vmdk"), "# Disk DescriptorFile\nversion=1\nCID=fffffffe\nparentCID=ffffffff\n"
            + $"createType=\"monolithicFlat\"\nRW 2048 FLAT \"{world.At("disks/lending-desk.vhdx")}\" 0\n");
        Assert.Contains("neither beside it", Assert.ThrowsAny<Exception>(() => As("survey", "hostile.vmdk")).Message,
            StringComparison.Ordinal);
        Assert.Contains("not divided", As("survey", "hostile.vmdk", "--allow-chain", world.At("disks")), StringComparison.Ordinal);
        Assert.DoesNotContain(Directory.EnumerateDirectories(folder.At("own")),
            d => Path.GetFileName(d).StartsWith("vembar-", StringComparison.Ordinal));
    }

    [Fact]
    public void SeveralInstallsAndNoneAreTold()
    {
        using var folder = new TempFolder();
        var disk = folder.At("two.img");
        var layout = folder.Write("two.yaml",
            "partitions:\n  - role: windows\n    size: 300 MiB\n    label: First\n  - role: data\n    size: 300 MiB\n    label: Second\n");
        Assert.Equal(0, Vembar.Run("deploy", world.Archive + "#1", disk, "--size", "700 MiB", "--layout", layout).Code);
        Assert.Equal(0, Vembar.Run("deploy", world.Archive + "#2", disk, "--volume", "2", "--verify").Code);
        Refused(3, "holds Windows on 2 volumes: 1, 2", "capture", disk, folder.At("a.vmb"), "--name", "x");
        Refused(3, "holds Windows on 2 volumes", "ready", disk);
        Assert.Equal(0, Vembar.Run("capture", disk, folder.At("a.vmb"), "--name", "second", "--volume", "2").Code);
        Assert.Equal("cy-GB",
            Vembar.Run("list", folder.At("a.vmb"), "--json").Json.GetProperty("images")[0].GetProperty("languages")[0].GetString());
        Assert.Contains("== Volume 2", Vembar.Run("survey", disk).Output, StringComparison.Ordinal);
        Refused(3, "has no volume 9", "capture", disk, folder.At("a.vmb"), "--name", "x", "--volume", "9");
        Refused(2, "is not a disk", "capture", world.At("references/lending-desk"), folder.At("a.vmb"), "--name", "x", "--volume", "1");
        // A disk without Windows, and one that holds nothing at all.
        using (var empty = File.Create(folder.At("empty.img")))
            empty.SetLength(10 << 20);
        Refused(3, "is not an NTFS volume (unknown)", "capture", folder.At("empty.img"), folder.At("a.vmb"), "--name", "x");
        File.WriteAllText(folder.At("nothing.img"), "");
        Refused(3, "is empty", "survey", folder.At("nothing.img"));
    }

    [Fact]
    public void AnImageThatIsCutShortIsRefusedAndRescued()
    {
        using var folder = new TempFolder();
        var (disk, archive) = (folder.At("cut.qcow2"), folder.At("a.vmb"));
        Tools.Run("qemu-img", ["convert", "-O", "qcow2", world.At("disks/lending-desk.vhdx"), disk]);
        using (var cut = File.OpenWrite(disk))
            cut.SetLength(cut.Length * 9 / 10);
        Refused(3, "it is cut short", "capture", disk, archive, "--name", "x");
        Refused(3, "it is cut short", "survey", disk);
        Refused(3, "--accept-damaged", "ready", disk);
        Assert.False(File.Exists(archive));
        Assert.Contains("is cut short", Vembar.Run("survey", disk, "--accept-damaged").Error, StringComparison.Ordinal);
        var rescued = Vembar.Run("capture", disk, archive, "--name", "x", "--accept-damaged", "--accept-unready", "--json");
        Assert.True(rescued.Code == 0, rescued.Error + rescued.Output);
        Assert.Contains(rescued.Json.GetProperty("warnings").EnumerateArray(), w => w.GetString()!.Contains("is cut short",
            StringComparison.Ordinal));
        Assert.Contains(rescued.Json.GetProperty("leftOut").EnumerateArray(), l => l.GetProperty("rule").GetString()!
            .StartsWith("unreadable", StringComparison.Ordinal));
    }

    [Fact]
    public void DisksThatCannotBeUsedAreSaid()
    {
        using var folder = new TempFolder();
        var archive = folder.At("a.vmb");
        // A qcow2 whose base is gone.
        Tools.Run("sh",
            ["-c", $"cd '{folder.Path}' && cp '{world.At("disks/lending-desk.vhdx")}' base.vhdx && qemu-img create -q -f qcow2 -F vhdx "
            + $"-b base.vhdx top.qcow2 && rm base.vhdx"]);
        Refused(3, "is missing", "survey", folder.At("top.qcow2"));
        // Cut short.
        var raw = Raw(folder);
        using (var cut = File.OpenWrite(folder.At("d.img")))
            cut.SetLength(300 << 20);
        Refused(3, "outside of the disk", "capture", raw, archive, "--name", "x");
        Tools.Run("head", ["-c", "1000", world.At("disks/lending-desk.vhdx")]);
        Tools.Run("sh", ["-c", $"head -c 500000 '{world.At("disks/lending-desk.vhdx")}' > '{folder.At("cut.vhdx")}'"]);
        Refused(3, "it is cut short", "survey", folder.At("cut.vhdx"));
        // Encrypted as a whole.
        raw = Raw(folder);
        long start;
        using (var disk = Disk.Open(raw))
            start = disk.Volumes[2].Start;
        using (var file = File.OpenWrite(raw))
        {
            file.Position = start + 3;
            file.Write("-FVE-FS-"u8);
        }
        Refused(3, "encrypted as a whole", "capture", raw, archive, "--name", "x");
        Assert.Contains("encrypted", Vembar.Run("survey", raw).Output, StringComparison.Ordinal);
        Assert.False(File.Exists(archive));
        // Other file systems are named, with their labels.
        Tools.Run("sh",
            ["-c", $"cd '{folder.Path}' && truncate -s 64M e.img f.img && mkfs.ext4 -q -L linux e.img && /usr/sbin/mkfs.fat -F 32 -n "
            + $"STICK f.img"]);
        foreach (var (name, kind, label) in new[] { ("e.img", "ext4", "linux"), ("f.img", "fat32", "STICK") })
        {
            var volume = Vembar.Run("survey", folder.At(name), "--json").Json.GetProperty("volumes")[0];
            Assert.Equal((kind, label), (volume.GetProperty("fileSystem").GetString(), volume.GetProperty("label").GetString()));
            Refused(3, $"is not an NTFS volume ({kind})", "capture", folder.At(name), archive, "--name", "x");
        }
    }

    [Fact]
    public void AHibernatedOrUncleanVolumeIsReadButNotWritten()
    {
        using var folder = new TempFolder();
        foreach (var name in (string[])["hibernated", "not-closed"])
        {
            var disk = folder.At($"{name}.qcow2");
            Tools.Run("qemu-img", ["convert", "-O", "qcow2", world.At($"spoiled/{name}.qcow2"), disk]);
            Assert.Contains("Windows 11", Vembar.Run("survey", disk).Output, StringComparison.Ordinal);
            Refused(3, "hibernated or was not closed cleanly", "deploy", world.Archive + "#1", disk, "--volume", "3", "--keep-existing");
        }
    }

    [Fact]
    public void ErasingIsConfirmedOrNotDone()
    {
        using var folder = new TempFolder();
        var disk = folder.At("d.img");
        Assert.Equal(0, Vembar.Run("deploy", world.Archive + "#1", disk, "--size", "2 GiB").Code);
        var hash = Tools.Run("b3sum", [disk]);
        Refused(3, "is there already", "deploy", world.Archive + "#2", disk);
        Refused(3, "--size makes a new disk image", "deploy", world.Archive + "#2", disk, "--size", "2 GiB");
        Refused(2, "nobody is there to confirm", "deploy", world.Archive + "#2", disk, "--erase");
        Refused(3, "was not erased", "deploy", world.Archive + "#2", disk, "--erase", "--confirm", "another.img");
        Refused(2, "'much' is not a size", "deploy", world.Archive + "#2", folder.At("n.img"), "--size", "much");
        Refused(3, "Make a new disk image with --size", "deploy", world.Archive + "#2", folder.At("n.vhdx"));
        Refused(2, "--volume deploys into a volume as it is", "deploy", world.Archive + "#2", disk, "--volume", "3", "--layout", "bios");
        Assert.Equal(hash, Tools.Run("b3sum", [disk]));
        Assert.Equal(0,
            Vembar.Run("deploy", world.Archive + "#2", disk, "--erase", "--confirm", disk, "--layout", "bios", "--verify").Code);
        Assert.Equal("mbr", Vembar.Run("survey", disk, "--json").Json.GetProperty("disk").GetProperty("scheme").GetString());
    }

    [Fact]
    public void ABlockDeviceWithLargeSectorsIsDividedInThem()
    {
        using var folder = new TempFolder();
        using (var file = File.Create(folder.At("d.img")))
            file.SetLength(2L << 30);
        // Only root may make a block device of a file, and not in every container.
        if (Tools.Try("losetup", ["-f", "--show", "--sector-size", "4096", folder.At("d.img")]) is not (0, var made, _))
            return;
        var device = made.Trim();
        try
        {
            Assert.Equal(0, Vembar.Run("deploy", world.Archive + "#1", device, "--erase", "--confirm", device, "--verify").Code);
            Assert.Contains("No problems found", Tools.Run("sgdisk", ["-v", device]), StringComparison.Ordinal);
            var survey = Vembar.Run("survey", device, "--json").Json;
            Assert.Equal(4096, survey.GetProperty("disk").GetProperty("sectorSize").GetInt32());
            Assert.Equal("generalized", survey.GetProperty("volumes")[2].GetProperty("windows").GetProperty("state").GetString());
            Assert.Equal(0, Vembar.Run("capture", device, folder.At("a.vmb"), "--name", "x").Code);
            // One that is in use here is not touched, whatever is confirmed.
            Tools.Run("mkfs.ext4", ["-q", "-F", device]);
            Directory.CreateDirectory(folder.At("mnt"));
            Tools.Run("mount", [device, folder.At("mnt")]);
            try
            {
                Refused(5, "is mounted at", "deploy", world.Archive + "#1", device, "--erase", "--confirm", device);
            }
            finally
            {
                Tools.Run("umount", [folder.At("mnt")]);
            }
        }
        finally
        {
            Tools.Run("losetup", ["-d", device]);
        }
    }

    [Fact]
    public void AnInterruptedDeploymentLeavesNoDisk()
    {
        using var folder = new TempFolder();
        for (var wait = 150; wait < 2000; wait += 250)
        {
            var process = Vembar.Start(["deploy", world.Archive + "#1", folder.At("d.qcow2"), "--size", "2 GiB"]);
            Thread.Sleep(wait);
            Tools.Try("kill", ["-INT", $"{process.Id}"]);
            var ran = Vembar.Finish(process);
            Assert.Contains(ran.Code, (int[])[0, 130]);
            Assert.Equal(ran.Code == 0, File.Exists(folder.At("d.qcow2")));
            if (ran.Code == 0)
                break;
        }
        Tools.NothingHolds(folder);
    }

    [Fact]
    [Trait("Set", "Slow")]
    public void HostileVolumesEndInAnErrorNotInACrash()
    {
        using var folder = new TempFolder();
        var raw = Raw(folder);
        long start;
        using (var disk = Disk.Open(raw))
            start = disk.Volumes[2].Start;
        var head = new byte[512];
        using (var file = File.OpenRead(raw))
        {
            file.Position = start;
            file.ReadExactly(head);
        }
        var table = start + BitConverter.ToInt64(head, 48) * 4096;
        var random = new Random(11);
        for (var round = 0; round < 25; round++)
        {
            var saved = new List<(long At, byte Was)>();
            using (var file = File.Open(raw, FileMode.Open))
            {
                for (var i = 0; i < 60; i++)
                {
                    // The file table's records, and now and then the boot sector.
                    var at = round % 5 == 4 && i < 3 ? start + random.Next(11, 84) : table + random.Next(0, 1400 * 1024);
                    file.Position = at;
                    saved.Add((at, (byte)file.ReadByte()));
                    file.Position = at;
                    file.WriteByte((byte)random.Next(256));
                }
            }
            foreach (var arguments in (string[][])[["survey", raw],
                ["capture", raw, folder.At($"{round}.vmb"), "--name", "x", "--volume", "3", "--effort", "quick", "--accept-unready"]])
            {
                var ran = Vembar.Run(arguments);
                Assert.True(ran.Code is 0 or 3, $"round {round}: {arguments[0]} ended with {ran.Code}\n{ran.Error}");
                Assert.DoesNotContain("   at ", ran.Error, StringComparison.Ordinal);
            }
            saved.Reverse();
            using (var file = File.Open(raw, FileMode.Open))
            {
                foreach (var (at, was) in saved)
                {
                    file.Position = at;
                    file.WriteByte(was);
                }
            }
        }
    }
}
