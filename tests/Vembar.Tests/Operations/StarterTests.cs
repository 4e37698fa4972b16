using Vembar.Common;
using Vembar.Operations;
using Vembar.Operations.Starters;
using Xunit;

namespace Vembar.Tests.Operations;

/// <summary>Starters are made of Debian's packages.</summary>
[Trait("Set", "Slow")]
public sealed class StarterTests(DemoDisks demo, DemoFixture world) : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    // Kept over runs; several runs of the same checkout may share it, as several runs of the program may.
    private static string Cache => Path.Combine(Repository.Root, "obj/test-packages");

    // Not the program itself, which is not built here: any that runs will do.
    private string Program()
    {
        Directory.CreateDirectory(_folder.At("program"));
        if (!File.Exists(_folder.At("program/vembar")))
            File.Copy("/bin/sh", _folder.At("program/vembar"));
        return _folder.At("program");
    }

    private static void DemandDebian() => Assert.SkipUnless(Tools.Try("apt-cache", ["show", "linux-image-amd64"]).Code == 0,
        "starters are made of Debian's packages");

    private MakeStarterResult Make(string name, Func<MakeStarterRequest, MakeStarterRequest>? with = null)
    {
        var request = new MakeStarterRequest
        {
            Output = _folder.At(name),
            Version = "2026.11",
            Program = Program(),
            Cache = Cache,
            Station = "https://station.example:8470",
            Only = [demo.At("hardware")],
        };
        return new MakeStarterHandler(OperationHost.Default).HandleAsync(with is null ? request : with(request), NoProgress.Instance,
            CancellationToken.None).GetAwaiter().GetResult();
    }

    private List<string> Names(string starter)
    {
        Tools.Run("zstd", ["-q", "-d", "-f", _folder.At($"{starter}/initial.img"), "-o", _folder.At("plain.cpio")]);
        return [.. Tools.Run("bsdcpio", ["-it", "-F", _folder.At("plain.cpio")]).Split('\n', StringSplitOptions.RemoveEmptyEntries)];
    }

    [Fact]
    public void TheSameGivesTheSameBytes()
    {
        DemandDebian();
        _folder.Write("tools/hello", "#!/bin/sh\necho hello\n");
        _folder.Write("firmware/corrin/cn20.fw", "firmware");
        _folder.Write("before.sh", "#!/bin/sh\n");
        _folder.Write("authority.pem", "-----BEGIN CERTIFICATE-----\n-----END CERTIFICATE-----\n");
        MakeStarterRequest With(MakeStarterRequest request) => request with
        {
            Tools = _folder.At("tools"),
            Firmware = _folder.At("firmware"),
            Script = _folder.At("before.sh"),
            Authority = _folder.At("authority.pem"),
        };
        var first = Make("first", With);
        File.SetLastWriteTimeUtc(_folder.At("tools/hello"), DateTime.UtcNow.AddDays(-3));
        var second = Make("second", With);
        Assert.Equal(first.Starter.Manifest.Files, second.Starter.Manifest.Files);
        Assert.Equal(File.ReadAllBytes(_folder.At("first/starter.json")), File.ReadAllBytes(_folder.At("second/starter.json")));
        var names = Names("first");
        foreach (var name in (string[])["init", "bin/busybox", "bin/sh", "sbin/modprobe", "usr/sbin/mkntfs", "usr/sbin/mcopy",
            "usr/bin/vembar",
            "opt/vembar/vembar", "opt/tools/hello", "usr/lib/firmware/corrin/cn20.fw", "etc/vembar/authority.pem", "etc/vembar/before",
            "lib64/ld-linux-x86-64.so.2", "usr/lib/x86_64-linux-gnu/libc.so.6", "usr/lib/x86_64-linux-gnu/libssl.so.3"])
            Assert.Contains(name, names);
        Assert.Contains(names,
            n => n.EndsWith("/nvme.ko", StringComparison.Ordinal) || n.EndsWith("/nvme.ko.xz", StringComparison.Ordinal));
        Assert.True(first.Bytes < 60 << 20, $"{first.Bytes} bytes");
        Assert.Equal(["corrin/cn20.fw"], first.Starter.Manifest.Firmware);
        // What it says of itself is read again, and what is not whole is not taken.
        Assert.Equal("2026.11", Assert.Single(Starter.All(_folder.At("first"))).Manifest.Version);
        File.AppendAllText(_folder.At("second/initial.img"), "x");
        Assert.Throws<VembarException>(() => Starter.Read(_folder.At("second")));
        Assert.Equal("target-exists", Assert.Throws<VembarException>(() => Make("first")).Code);
    }

    [Fact]
    public async Task DevicesHaveModulesOrNone()
    {
        DemandDebian();
        _folder.Write("models/emulated.yaml", """
            model: Emulated
            devices:
              - name: disk
                hardware: ['PCI\VEN_1AF4&DEV_1042&SUBSYS_11001AF4&REV_01']
                compatible: ['PCI\VEN_1AF4&DEV_1042', 'PCI\CC_010000']
                boot: yes
              - name: network
                hardware: ['PCI\VEN_8086&DEV_10D3&SUBSYS_00008086&REV_00']
                compatible: ['PCI\CC_020000']
              - name: stick
                hardware: ['USB\VID_0BDA&PID_8153']
                compatible: ['USB\Class_02']
            """);
        _folder.Write("models/odd.yaml", """
            model: Odd
            devices:
              - name: network of nobody
                hardware: ['PCI\VEN_F1C0&DEV_2000']
                compatible: ['PCI\CC_020000']
            """);
        Make("starter", r => r with { Only = [_folder.At("models/emulated.yaml")] });
        var found = await new CheckStarterHandler().HandleAsync(new CheckStarterRequest(_folder.At("starter"), [_folder.At("models")]),
            NoProgress.Instance, CancellationToken.None);
        StarterDevice Of(string device) => found.Devices.Single(d => d.Device == device);
        Assert.Equal(["virtio_pci"], Of("disk").Modules);
        Assert.Equal(["e1000e"], Of("network").Modules);
        Assert.Contains("r8152", Of("stick").Modules);
        Assert.Contains(Of("stick").Firmware, f => f.StartsWith("rtl_nic/", StringComparison.Ordinal));
        Assert.True(Of("network of nobody").IsMissing);
        Assert.False(found.IsInOrder);
    }

    [Fact]
    public async Task AMediumIsOneFileForSticksAndDiscs()
    {
        DemandDebian();
        var starter = Make("starter").Starter;
        Task<MakeMediumResult> Medium(string name, Func<MakeMediumRequest, MakeMediumRequest>? with = null)
        {
            var request = new MakeMediumRequest { Starter = starter.Folder, Output = _folder.At(name), Cache = Cache };
            return new MakeMediumHandler(OperationHost.Default).HandleAsync(with is null ? request : with(request), NoProgress.Instance,
                CancellationToken.None);
        }
        async Task<string> Refused(string name, Func<MakeMediumRequest, MakeMediumRequest>? with = null) =>
            (await Assert.ThrowsAsync<VembarException>(() => Medium(name, with))).Code;
        var first = await Medium("first.img");
        Assert.Equal(first.Sha256, (await Medium("second.iso")).Sha256);
        Assert.NotEqual(first.Sha256, (await Medium("third.img", r => r with { Station = "https://station.example:8470" })).Sha256);
        var partitions = Tools.Run("sgdisk", ["-p", _folder.At("first.img")]);
        Assert.Contains("EF00", partitions, StringComparison.Ordinal);
        var files = Tools.Run("bsdtar", ["-tf", _folder.At("first.img")]).Split('\n');
        foreach (var name in (string[])["starter/vmlinuz", "starter/initial.img", "boot/grub/grub.cfg", "boot/grub/bios.img"])
            Assert.Contains(name, files);
        // One that carries an image has it in an archive of its own.
        var carrying = await Medium("carrying.img", r => r with { Images = [ImageReference.Parse($"{world.Archive}#1")] });
        Assert.Single(carrying.Images);
        Tools.Run("bsdtar", ["-xf", _folder.At("carrying.img"), "-C", _folder.Path, "images.vmb", "boot/grub/grub.cfg"]);
        using (var archive = global::Vembar.Store.Reading.ArchiveReader.Open(_folder.At("images.vmb")))
            Assert.Single(global::Vembar.Images.Records.ImageCatalogue.Of(archive).Images);
        Assert.Contains("vembar.carried=1", File.ReadAllText(_folder.At("boot/grub/grub.cfg")), StringComparison.Ordinal);
        Assert.Equal("target-exists", await Refused("first.img"));
        Assert.Equal("bad-medium", await Refused("starter.vhdx"));
        Assert.Equal("bad-station", await Refused("x.img", r => r with { Station = "https://x/;reboot" }));
        Assert.Equal("bad-arguments", await Refused("x.img", r => r with { Arguments = "quiet\" }" }));
        Assert.Equal("no-such-folder", await Refused("nowhere/x.img"));
        var initial = _folder.At("starter/initial.img");
        var bytes = File.ReadAllBytes(initial);
        bytes[^1] ^= 1;
        File.WriteAllBytes(initial, bytes);
        Assert.Contains("is not what was made", (await Assert.ThrowsAsync<VembarException>(() => Medium("x.img"))).Message,
            StringComparison.Ordinal);
        Assert.DoesNotContain(Directory.EnumerateFileSystemEntries(_folder.Path), f => f.Contains(".making", StringComparison.Ordinal));
    }

    [Fact]
    public void AStarterIsPutIntoUse()
    {
        foreach (var version in (string[])["1", "2", "3"])
            _folder.Write($"starters/{version}/starter.json",
                $$"""{"format":1,"name":"small","version":"{{version}}","kernel":"6","modules":[],"files":[]}""");
        var all = Starter.All(_folder.At("starters"));
        string? Version(string named) => StarterChannels.Read(_folder.At("starters")).Find(all, named)?.Manifest.Version;
        // The newest, where nothing was said.
        Assert.Equal(("3", "3", "1", null), (Version(""), Version("pilot"), Version("1"), Version("4")));
        StarterChannels.Use(all[0], StarterChannels.ProductionName);
        StarterChannels.Use(all[1], StarterChannels.PilotName);
        Assert.Equal(("1", "1", "2", "3"), (Version(""), Version("production"), Version("pilot"), Version("3")));
        Assert.Equal(["pilot"], StarterChannels.Read(_folder.At("starters")).Of(all, all[1]));
        _folder.Write("starters/channels.json", "[1]");
        Assert.Equal("bad-channels", Assert.Throws<VembarException>(() => StarterChannels.Read(_folder.At("starters"))).Code);
    }

    [Fact]
    public void WhatIsMissingIsTold()
    {
        Assert.Equal("no-such-package", Assert.Throws<VembarException>(() => Make("x", r => r with
        {
            Kernel = "linux-image-of-nobody",
        })).Code);
        Assert.Equal("no-such-folder", Assert.Throws<VembarException>(() => Make("x", r => r with { Tools = _folder.At("nothing") })).Code);
        Assert.Equal("bad-station", Assert.Throws<VembarException>(() => Make("x", r => r with { Station = "http://x" })).Code);
        Assert.Equal("bad-station", Assert.Throws<VembarException>(() => Make("x", r => r with { Station = "https://x/'$(reboot)" })).Code);
        Assert.Equal("bad-name", Assert.Throws<VembarException>(() => Make("x", r => r with { Name = "it's" })).Code);
        _folder.Write("program/vembar.dll", "");
        Assert.Equal("needs-runtime", Assert.Throws<VembarException>(() => Make("x")).Code);
        Assert.False(Path.Exists(_folder.At("x")));
        Assert.DoesNotContain(Directory.EnumerateFileSystemEntries(_folder.Path), f => f.Contains(".making", StringComparison.Ordinal));
    }
}
