using Vembar.Common;
using Vembar.Operations;
using Vembar.Operations.Starters;
using Xunit;

namespace Vembar.Tests.Operations;

/// <summary>Starters are made of Debian's packages.</summary>
public sealed class StarterTests(DemoDisks demo) : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    // Kept over the tests of a run, and over runs where the folder stays.
    private static string Cache => Path.Combine(Path.GetTempPath(), "vembar-test-packages");

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
