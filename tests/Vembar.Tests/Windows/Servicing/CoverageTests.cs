using CsCheck;
using Vembar.Common;
using Vembar.Operations;
using Vembar.Windows.Registry;
using Vembar.Windows.Servicing.Drivers;
using Xunit;

namespace Vembar.Tests;

/// <summary>Hardware models, and which driver their devices would get.</summary>
public class CoverageTests(DemoFixture demo)
{
    private static CandidateDriver Driver(string name, string[] ids, int score = 255, bool signed = true, int year = 2026,
        string version = "1.0.0.0") =>
        new(name, name, "Corrin Silicon", Version.Parse(version), new DateOnly(year, 1, 1), signed,
        [new CandidateModel("", ids, score, [])]);

    private static readonly HardwareDevice s_device = new("d", [@"PCI\A&B&C", @"PCI\A&B"], [@"PCI\A", @"PCI\CC_01"], true, false);

    private static DeviceCoverage Choose(params CandidateDriver[] drivers) =>
        Coverage.Of([new HardwareProfile("m", [s_device])], drivers)[0].Devices[0];

    [Fact]
    public void TheRulesOfRankingDecideInTheirOrder()
    {
        // Each beats all that follow.
        CandidateDriver[] order =
        [
            Driver("score", [@"PCI\CC_01"], score: 0x10, year: 2001), Driver("exact", [@"PCI\A&B&C"], year: 2002),
            Driver("less exact", [@"PCI\A&B"], year: 2003), Driver("second id", [@"X", @"PCI\A&B&C"], year: 2004),
            Driver("compatible", [@"PCI\A"], year: 2005), Driver("newer", [@"PCI\CC_01"], year: 2020),
            Driver("version", [@"PCI\CC_01"], year: 2006, version: "2.0.0.0"), Driver("plain", [@"PCI\CC_01"], year: 2006),
            Driver("compatible to compatible", [@"X", @"PCI\A"], year: 2030),
            Driver("unsigned", [@"PCI\A&B&C"], score: 0, signed: false, year: 2031),
        ];
        Gen.Shuffle(order).Sample(drivers =>
        {
            var chosen = Choose(drivers);
            Assert.Equal(order.Select(d => d.Name), chosen.Others.Prepend(chosen.Chosen!).Select(m => m.Driver.Name));
            Assert.All(chosen.Others, o => Assert.NotEmpty(o.LosesTo(chosen.Chosen!)));
        }, iter: 200);
        Assert.Null(Choose(Driver("other", [@"PCI\Z"])).Chosen);
        Assert.Contains("signed", Choose(order).Others[^1].LosesTo(Choose(order).Chosen!), StringComparison.Ordinal);
    }

    [Fact]
    public void GapsAreToldBeforeDeployment()
    {
        var profiles = HardwareProfile.ReadAll([demo.At("hardware")]);
        Assert.Equal(["Fellside T2", "Oakmere M4", "Wharf 11"], profiles.Select(p => p.Model));
        var before = Do.Coverage([demo.At("drivers")], null, "amd64", profiles, demo.Trust);
        Assert.False(before.IsInOrder);
        Assert.Equal(("Corrin CW-7 wireless adapter", 1), (before.Models[0].Devices[0].Device.Name, before.Models[0].Devices[0].Urgency));
        var nothing = Do.Coverage([demo.Driver("pell-barcode")], null, "amd64", profiles, demo.Trust);
        Assert.All(nothing.Models, m => Assert.Equal(0, m.Devices[0].Urgency));
        Assert.True(Do.Coverage([demo.At("drivers"), demo.At("more-drivers")], null, "amd64", profiles, demo.Trust).IsInOrder);
        Assert.False(Do.Coverage([demo.At("drivers"), demo.At("more-drivers")], null, "arm64", profiles, demo.Trust).IsInOrder);

        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var bare = Do.Coverage([], ImageReference.Parse(archive), "amd64", profiles, demo.Trust);
        Assert.Equal(0, bare.Models[0].Devices[0].Urgency);
        Assert.Equal("usbxhci.inf", bare.Models[1].Devices.Single(d => d.Device.Name == "USB controller").Chosen!.Driver.Name);
        Do.Service(archive, null, demo.Add(demo.At("drivers"), demo.At("more-drivers")));
        var held = Do.Coverage([], ImageReference.Parse(archive), "amd64", profiles, demo.Trust);
        Assert.True(held.IsInOrder);
        // What Windows has itself fits the audio device less exactly.
        var audio = held.Models[1].Devices.Single(d => d.Device.Name == "Brightwell B2 audio");
        Assert.Equal(("bwaudio.inf", "hdaudio.inf"), (audio.Chosen!.Driver.Name, audio.Others.Single().Driver.Name));
        Assert.Equal(0x80, held.Models[0].Devices.Single(d => d.Device.Name == "Corrin CW-7 wireless adapter").Chosen!.FeatureScore);
    }

    [Fact]
    public void AMachineIsDescribedByTheIdsThatWindowsWouldGiveIt()
    {
        using var folder = new TempFolder();
        void Device(string at, params (string File, string Text)[] files)
        {
            foreach (var (file, text) in files)
                folder.Write($"sys/bus/{at}/{file}", text + "\n");
        }
        Device("pci/devices/0000:00:17.0", ("vendor", "0xf1c0"), ("device", "0x0410"), ("class", "0x010700"),
            ("subsystem_vendor", "0xf1d0"), ("subsystem_device", "0x0004"), ("revision", "0x01"));
        Device("pci/devices/0000:00:1f.6", ("vendor", "0xf1c0"), ("device", "0x2000"), ("class", "0x020000"),
            ("subsystem_vendor", "0xf1d0"), ("subsystem_device", "0x0004"), ("revision", "0x02"));
        Device("pci/devices/broken", ("vendor", "what"));
        Device("usb/devices/1-2", ("bNumInterfaces", " 2"));
        Device("usb/devices/1-2:1.1", ("modalias", "usb:vF17Ep0007d0100dc00dsc00dp00icFFisc00ip00in01"));
        Device("usb/devices/1-3:1.0", ("modalias", "usb:vF17Ep0099d0100dc09dsc00dp00ic09isc00ip00in00"));
        Device("hid/devices/0003:F1B2:0303.0001", ("modalias", "hid:b0003g0001v0000F1B2p00000303"));
        Device("hdaudio/devices/hdaudioC0D0", ("vendor_id", "0xf1b20011"), ("subsystem_id", "0xf1b20001"), ("revision_id", "0x101000"));
        Device("acpi/devices/PNP0303:00", ("modalias", "acpi:LEN0071:PNP0303:"));
        folder.Write("sys/class/dmi/id/product_name", "Oakmere M4\n");
        folder.Write("ids/pci.ids",
            "# list\nf1c0  Corrin Silicon\n\t0410  CS-410 storage controller\n\t\tf1d0 0004  of the M4\nC 02  Network controller\n\t00  "
            + "Ethernet controller\n");
        var profile = HardwareScan.Run(folder.At("sys"), null, IdNames.Load([folder.At("ids")]));
        Assert.Equal("Oakmere M4", profile.Model);
        Assert.Equal(6, profile.Devices.Count);
        Assert.Equal(("Corrin Silicon CS-410 storage controller", true, true),
            (profile.Devices[0].Name, profile.Devices[0].Needed, profile.Devices[0].Boot));
        Assert.Equal([@"PCI\VEN_F1C0&DEV_0410&SUBSYS_0004F1D0&REV_01", @"PCI\VEN_F1C0&DEV_0410&SUBSYS_0004F1D0",
            @"PCI\VEN_F1C0&DEV_0410&CC_010700", @"PCI\VEN_F1C0&DEV_0410&CC_0107"], profile.Devices[0].HardwareIds);
        Assert.Equal(@"PCI\CC_0107", profile.Devices[0].CompatibleIds[^1]);
        Assert.Equal(("Ethernet controller f1c0:2000", true, false),
            (profile.Devices[1].Name, profile.Devices[1].Needed, profile.Devices[1].Boot));
        Assert.Equal(@"HDAUDIO\FUNC_01&VEN_F1B2&DEV_0011&SUBSYS_F1B20001&REV_1000", profile.Devices[2].HardwareIds[0]);
        Assert.Equal([@"USB\VID_F17E&PID_0007&REV_0100&MI_01", @"USB\VID_F17E&PID_0007&MI_01"], profile.Devices[3].HardwareIds);
        Assert.Equal([@"USB\Class_FF&SubClass_00&Prot_00", @"USB\Class_FF&SubClass_00", @"USB\Class_FF"], profile.Devices[3].CompatibleIds);
        Assert.Equal([@"HID\VID_F1B2&PID_0303"], profile.Devices[4].HardwareIds);
        Assert.Equal([@"ACPI\VEN_LEN&DEV_0071", @"ACPI\LEN0071", "*LEN0071"], profile.Devices[5].HardwareIds);
        Assert.Equal("*PNP0303", profile.Devices[5].CompatibleIds[^1]);
        // The file says the same.
        var read = HardwareProfile.Read(folder.Write("m4.yaml", profile.ToYaml()));
        Assert.Equal(profile.ToYaml(), read.ToYaml());
        Assert.Equal(profile.Devices.Select(d => (d.Name, d.Needed, d.Boot)), read.Devices.Select(d => (d.Name, d.Needed, d.Boot)));
    }

    [Theory]
    [InlineData("model: x\n", "it lists no devices")]
    [InlineData("devices:\n  - name: a\n    hardware: PCI\\A\n", "does not name its model")]
    [InlineData("model: x\ndevices:\n  - name: a\n", "line 3: a device needs hardware or compatible ids")]
    [InlineData("model: x\ndevices:\n  - hardware: 'two words'\n", "line 3: a hardware id is one word")]
    [InlineData("model: x\ndevices:\n  - hardware: A\n    needed: maybe\n",
        "line 4: 'needed' is not known in a device, or has the wrong form")]
    [InlineData("model: x\nmaker: y\ndevices:\n  - hardware: A\n", "line 2: 'maker' is not known here")]
    public void MistakesInAProfileAreToldWithTheirLine(string text, string expected)
    {
        using var folder = new TempFolder();
        var problem = Assert.Throws<VembarException>(() => HardwareProfile.Read(folder.Write("p.yaml", text)));
        Assert.Contains(expected, string.Join('\n', problem.Details.Prepend(problem.Message)), StringComparison.Ordinal);
    }

    [Fact]
    public void RenderedInfsAreReadBackAsTheSame()
    {
        var value = Gen.String[Gen.Char[" !#$%&'()*+,-./:;<=>?@[\\]^_`{|}~\"abcXYZ019äß漢"], 0, 12].Where(v => !v.Contains('%'));
        var key = Gen.String[Gen.Char["abcXYZ019._"], 1, 8];
        var line = Gen.Select(key, value.Array[1, 4], Gen.Bool, (k, v, keyed) => (Key: keyed ? k : null, Values: v))
            .Where(l => l.Key is not null ? l.Values is not [""] : l.Values.Length > 1 || l.Values[0].Length > 0);
        Gen.Select(key, line.Array[0, 5]).Array[1, 4].Sample(sections =>
        {
            var model = sections.DistinctBy(s => s.Item1.ToUpperInvariant())
                .Select(s => (s.Item1, (IReadOnlyList<InfLine>)[.. s.Item2.Select(l => new InfLine(0, l.Key, l.Values))])).ToList();
            var inf = InfFile.Parse(System.Text.Encoding.UTF8.GetBytes(InfFile.Render(model)), "x");
            foreach (var (name, lines) in model)
                Assert.Equal(lines.Select(l => $"{l.Key}={string.Join('|', l.Values)}"),
                    inf.Section(name).Select(l => $"{l.Key}={string.Join('|', l.Values)}"));
        });
    }

    [Fact]
    public void RegistryLinesOfEveryKindAreMade()
    {
        var inf = InfFile.Parse(System.Text.Encoding.UTF8.GetBytes(
            """
            [add]
            HKR,a,text,,"x, y"
            HKR,a,text,0x2,kept out
            HKR,a,fresh,0x2,put in
            HKR,a,expand,0x20000,"%%SystemRoot%%\x"
            HKR,a,list,0x10000,one,two
            HKR,a,list,0x10008,two,three
            HKR,a,number,0x10001,-1
            HKR,a,bytes,1,01,ff,0x0a
            HKR,a,run,1,01ff0a
            HKR,a,long,0xB0001,0x1122334455667788
            HKR,a,none,0x20001
            HKR,a,own,0x00120001,aa
            HKR,a,text2,0x20,not there
            HKR,a,text,0x20,overwritten
            HKR,key
            HKR,key2,,0x10
            HKR,a,gone,,x
            HKR,a,gone,0x4
            [del]
            HKR,a,list,0x10002,one
            HKR,a,fresh
            HKR,key2
            """), "x");
        var hive = RegistryHive.Open(RegistryHive.NewEmpty(), write: true, "test");
        foreach (var line in inf.Section("add"))
            InfRegistry.ReadAdd(inf, "add", line).Apply(hive.Root);
        Assert.NotNull(hive.Key("key2"));
        foreach (var line in inf.Section("del"))
            InfRegistry.ReadDelete(inf, "del", line).Apply(hive.Root);
        using var folder = new TempFolder();
        File.WriteAllBytes(folder.At("hive"), hive.ToBytes());
        var seen = Tools.Run("reglookup", [folder.At("hive")]).Split('\n').Where(l => !l.Contains(",KEY,", StringComparison.Ordinal))
            .Skip(1).Select(l => l.TrimEnd(',')).Where(l => l.Length > 0).Order(StringComparer.Ordinal);
        Assert.Equal(
            ["/a/bytes,BINARY,%01%FF%0A", "/a/expand,EXPAND_SZ,%25SystemRoot%25\\x", "/a/list,MULTI_SZ,two|three",
            "/a/long,QWORD,0x1122334455667788", "/a/none,NONE,(null)", "/a/number,DWORD,0xFFFFFFFF", "/a/own,0x00000012,%AA",
            "/a/run,BINARY,%01%FF%0A", "/a/text,SZ,overwritten"],
            seen);
        Assert.NotNull(hive.Key("key"));
        Assert.Null(hive.Key("key2"));
    }
}
