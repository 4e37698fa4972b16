using System.Text;
using Vembar.Images.Paths;
using Vembar.Operations;
using Vembar.Windows.Install;
using Vembar.Windows.Registry;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Drivers;
using Vembar.Windows.Servicing.Files;
using Xunit;

namespace Vembar.Tests;

/// <summary>Drivers into images and out again, and what an image is told to have.</summary>
public class DriverTests(DemoFixture demo)
{
    private DriverOptions Trusting => new() { Trust = demo.Trust };

    private static readonly DriverOptions s_anything = new() { AllowUnsigned = true };

    // All that a hive holds but when: keys' times change with every change below them.
    private static string Registry(string archive, string image, string hive, TempFolder folder)
    {
        var file = folder.At(hive);
        Do.WithTree(archive, int.Parse(image, null), tree =>
        {
            File.WriteAllBytes(file, tree.ReadFile(WindowsInstall.HivePath("Windows", hive), RegistryHive.Longest)!);
            return 0;
        });
        return string.Join('\n',
            Tools.Run("reglookup", [file]).Split('\n')
            .Select(l => l.Contains(",KEY,", StringComparison.Ordinal) ? l[..l.IndexOf(",KEY,", StringComparison.Ordinal)] : l));
    }

    private static List<string> Files(string archive, string image) => Do.WithTree(archive, int.Parse(image, null),
        tree => tree.Walk(tree.Root, WindowsPath.Root)
            .Select(e => $"{e.Path} {(e.Path.ToString().EndsWith("/SYSTEM", StringComparison.Ordinal) ? null : e.Entry.Content?.Hash)}")
                .ToList());

    private static string Inf(string name, string version, string devices = "d = i, ID\\1", string install = "", string services = "",
        string files = "") =>
        $"""
        [Version]
        Signature = "$WINDOWS NT$"
        Class = SCSIAdapter
        ClassGuid = {"{4d36e97b-e325-11ce-bfc1-08002be10318}"}
        Provider = Corrin Silicon
        DriverVer = {version}
        [Manufacturer]
        m = v, NTamd64
        [v.NTamd64]
        {devices}
        [i]
        CopyFiles = @{name}.sys
        {install}
        [i.Services]
        AddService = {name}, 2, service
        {services}
        [service]
        ServiceType = 1
        StartType = 0
        ErrorControl = 1
        ServiceBinary = %12%\{name}.sys
        [DestinationDirs]
        DefaultDestDir = 12
        [SourceDisksNames]
        1 = disk
        [SourceDisksFiles]
        {name}.sys = 1
        {files}
        """;

    private static string Package(TempFolder folder, string where, string name, string version, string content, string install = "",
        string services = "")
    {
        folder.Write($"{where}/{name}.inf", Inf(name, version, install: install, services: services));
        folder.Write($"{where}/{name}.sys", content);
        return folder.At(where);
    }

    [Fact]
    public void InjectionThenRemovalLeavesNoTrace()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var (hive, files) = (Registry(archive, "1", "SYSTEM", folder), Files(archive, "1"));
        Do.Service(archive, "with", demo.Add(demo.At("drivers"), demo.At("more-drivers")));
        Assert.NotEqual(hive, Registry(archive, "2", "SYSTEM", folder));
        var shown = Do.Show(ImageReference.Parse(archive + "#with"), lookIntoDrivers: true);
        Assert.Equal(6, shown.Drivers!.Count);
        Assert.All(shown.DriverFiles.Values, f => Assert.Equal("whole", f));
        Assert.Contains(shown.InboxDrivers!, d => d.Inf == "usbxhci.inf" && d.Ids.Contains(@"PCI\CC_0C0330"));
        var result = Do.Service(archive + "#with", "without",
            [.. shown.Drivers.Select((d, i) => new DriverRemoval(i % 2 == 0 ? d.Inf : d.OriginalInf))]);
        Assert.All(result.Changes, c => Assert.Equal(ChangeStatus.Done, c.Status));
        Assert.Equal(hive, Registry(archive, "3", "SYSTEM", folder));
        Assert.Equal(files, Files(archive, "3"));
        Assert.Equal(ChangeStatus.Already, Do.Service(archive + "#without", null, new DriverRemoval("oem0.inf")).Changes.Single().Status);
        Assert.Equal(ChangeStatus.Refused, Do.Service(archive + "#without", null, new DriverRemoval("disk.inf")).Changes.Single().Status);
    }

    [Fact]
    public void NewerOnesReplaceOlderOnesAndGiveBackWhatTheyHad()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var first = Package(folder, "one", "tarnstor", "01/01/2026,1.0.0.0", "one");
        var second = Package(folder, "two", "tarnstor", "02/01/2026,2.0.0.0", "two");
        string Binary() =>
            Do.WithTree(archive, 1,
            t => Encoding.UTF8.GetString(t.ReadFile(WindowsPath.Parse("Windows/System32/drivers/tarnstor.sys"), 1000) ?? []));
        Do.Service(archive, null, new DriverChange([first], s_anything));
        var beside = Do.Service(archive, null, new DriverChange([second], s_anything));
        Assert.Contains("beside the older 1.0.0.0 (oem0.inf)", beside.Changes[0].Why, StringComparison.Ordinal);
        Assert.Equal("two", Binary());
        // The older one again is not wanted; without the newer one its file is back.
        Assert.Equal(ChangeStatus.Skipped,
            Do.Service(archive, null,
            new DriverChange([Package(folder, "three", "tarnstor", "01/15/2026,1.5.0.0", "three")], s_anything)).Changes[0].Status);
        Do.Service(archive, null, new DriverRemoval("oem1.inf"));
        Assert.Equal("one", Binary());
        Assert.Contains("/Services/tarnstor/Owners,MULTI_SZ,oem0.inf", Registry(archive, "1", "SYSTEM", folder), StringComparison.Ordinal);
        var replaced = Do.Service(archive, null, new DriverChange([first, second], s_anything with { ReplaceOlder = true }));
        Assert.Equal([ChangeStatus.Skipped, ChangeStatus.Done], replaced.Changes.Select(c => c.Status));
        Assert.Equal(["2.0.0.0"], Do.Show(ImageReference.Parse(archive)).Drivers!.Select(d => d.Version));
        Do.Service(archive, null, new DriverRemoval("tarnstor"));
        Assert.Equal("", Binary());
        Assert.DoesNotContain("tarnstor", Registry(archive, "1", "SYSTEM", folder), StringComparison.Ordinal);
        Assert.Null(replaced.Image.UnsignedDrivers!.FirstOrDefault(u => u.Inf == "oem0.inf" && u.Why.Length == 0));
        Assert.Null(Do.Service(archive, "named", new DriverRemoval("tarnstor")).Image.UnsignedDrivers);
    }

    [Fact]
    public void TwoPackagesThatPutDifferentFilesToOnePlaceAreRefused()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var before = File.ReadAllBytes(archive);
        var first = Package(folder, "one", "tarnstor", "01/01/2026,1.0.0.0", "one");
        folder.Write("two/other.inf", Inf("tarnstor", "01/01/2026,1.0.0.0"));
        folder.Write("two/tarnstor.sys", "another");
        var result = Do.Service(archive, null, new DriverChange([first, folder.At("two")], s_anything));
        Assert.Equal(ChangeStatus.Refused, result.Changes[1].Status);
        Assert.Contains("is another file, which oem0.inf (tarnstor.inf) put there", result.Changes[1].Why, StringComparison.Ordinal);
        Assert.Equal(before, File.ReadAllBytes(archive));
    }

    [Fact]
    public void WhatIsNotTrustedIsRefusedOrMarked()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var driver = Package(folder, "one", "tarnstor", "01/01/2026,1.0.0.0", "one");
        Assert.StartsWith("unsigned: ", Do.Service(archive, null, new DriverChange([driver], Trusting)).Changes.Single().Why,
            StringComparison.Ordinal);
        var result = Do.Service(archive, "marked", new DriverChange([driver, demo.Driver("pell-barcode")], Trusting with
        {
            AllowUnsigned = true,
        }));
        Assert.Equal("oem0.inf tarnstor.inf unsigned",
            string.Join('|', result.Image.UnsignedDrivers!.Select(u => $"{u.Inf} {u.OriginalInf} {u.State}")));
        Do.Deploy(archive + "#marked", folder.At("out"));
        File.AppendAllText(Directory.EnumerateFiles(folder.At("out/Windows/System32/DriverStore/FileRepository"), "pellscan.dll",
            SearchOption.AllDirectories).Single(), "x");
        Do.Capture(folder.At("out"), archive, "spoiled");
        Assert.Equal("not as it was signed: pellscan.dll",
            Do.Show(ImageReference.Parse(archive + "#spoiled"), lookIntoDrivers: true).DriverFiles["oem1.inf"]);
    }

    [Fact]
    public void ZipFilesAndCollectionsGiveWhatFits()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        folder.Write("all/autorun.inf", "[autorun]\nopen=setup.exe\n");
        folder.Write("all/arm/pellscan.inf", File.ReadAllText(Path.Combine(demo.Driver("pell-barcode"), "pellscan.inf"))
            .Replace("NTamd64", "NTarm64", StringComparison.Ordinal));
        foreach (var zip in (string[])["corrin-wireless.zip", "corrin-network-2.9.zip"])
            File.Copy(demo.At($"more-drivers/{zip}"), folder.At($"all/{zip}"));
        Tools.Run("cp", ["-r", demo.Driver("corrin-network"), folder.At("all/net")]);
        Tools.Run("cp", ["-r", demo.Driver("corrin-network"), folder.At("all/net again")]);
        var result = Do.Service(archive, null, new DriverChange([folder.At("all")], Trusting));
        Assert.Equal(
            [
                "all/arm/pellscan.inf skipped it is for arm64; the image is amd64",
                "all/autorun.inf skipped it is not the INF of a driver",
                "all/corrin-network-2.9.zip/cornet.inf skipped older than 2.10.3.7 in all/net again/cornet.inf",
                "all/corrin-wireless.zip/corwlan.inf done", "all/net again/cornet.inf done",
                "all/net/cornet.inf skipped the same package as all/net again/cornet.inf",
            ],
            result.Changes.Select(c => $"{c.What} {c.Status} {(c.Status == ChangeStatus.Done ? "" : c.Why)}".Replace(folder.Path + "/", "",
            StringComparison.Ordinal).Replace("Skipped", "skipped", StringComparison.Ordinal)
            .Replace("Done ", "done", StringComparison.Ordinal)));
        var rows = Do.Drivers([folder.At("all")], null, demo.Trust, new Progress<OperationProgress>(), default);
        Assert.Equal(6, rows.Count);
        Assert.Contains(rows, r => r.SameAs.EndsWith("net again/cornet.inf", StringComparison.Ordinal));
        Assert.Contains(rows, r => r.OlderThan.Length > 0 && r.Version == "2.9.1.0");
        folder.Write("all/not.zip", "PK nothing of the kind");
        Assert.Contains("not.zip' cannot be unpacked: End of Central Directory",
            Do.Service(archive, "x",
            new DriverChange([folder.At("all")], Trusting)).Changes.Single(c => c.Status == ChangeStatus.Refused).Why,
            StringComparison.Ordinal);
    }

    [Fact]
    public void OnlyWhatTheModelsNeedGoesIn()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var options = Trusting with { For = [HardwareProfile.Read(demo.At("hardware/fellside-t2.yaml"))] };
        var result = Do.Service(archive, null, new DriverChange([demo.At("drivers"), demo.At("more-drivers")], options));
        Assert.Equal(["corstor.inf", "corwlan.inf", "t2wlan.inf"],
            Do.Show(ImageReference.Parse(archive)).Drivers!.Select(d => d.OriginalInf).Order());
        Assert.Contains("no device of Fellside T2 would get it; ",
            result.Changes.First(c => c.What.EndsWith("bwaudio.inf", StringComparison.Ordinal)).Why, StringComparison.Ordinal);
    }

    [Fact]
    public void TheSecondWayLaysPackagesWhereWindowsLooks()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var change = new DriverPathChange([demo.Driver("corrin-network")], Trusting);
        Assert.Equal(ChangeStatus.Done, Do.Service(archive, null, change).Changes.Single().Status);
        Assert.Contains(@"/DevicePath,EXPAND_SZ,%25SystemRoot%25\inf;%25SystemDrive%25\Drivers",
            Registry(archive, "1", "SOFTWARE", folder), StringComparison.Ordinal);
        Assert.Contains(Files(archive, "1"),
            f => f.StartsWith("Drivers/cornet.inf_amd64_", StringComparison.Ordinal)
                && f.Contains("/x64/cornet.sys", StringComparison.Ordinal));
        Assert.Equal(ChangeStatus.Already, Do.Service(archive, null, change).Changes.Single().Status);
    }

    [Theory]
    [InlineData("Needs = a", "[a]\nNeeds = b\n[b]\nNeeds = a\n", "[a]: its Needs lead in a circle: [I] → [A] → [B] → [A]")]
    [InlineData("CopyFiles = list", "[list]\n..\\..\\evil.sys\n", "[list]: '../../evil.sys' is not a path inside of the package")]
    [InlineData("CopyFiles = list", "[list]\nC:\\evil.sys\n", "[list]: 'C:/evil.sys' is not a path inside of the package")]
    [InlineData("FeatureScore = hello", "", "[i]: FeatureScore 'hello'")]
    [InlineData("AddReg = r", "[r]\nHKXX,a,b,0,c\n", "[r]: 'HKXX' is not a root key")]
    [InlineData("AddReg = r", "[r]\nHKR,a,b,0x10001,many\n", "[r]: 'many' is not a number of 32 bits")]
    [InlineData("AddReg = r", "[r]\nHKR,a,b,flags,1\n", "[r]: the flags 'flags' are not a number")]
    [InlineData("AddReg = r", "[r]\nHKR,a,b,1,xx\n", "[r]: 'xx' is not a byte")]
    public void MistakesInAnInfAreToldWithLineAndSection(string install, string more, string expected)
    {
        using var folder = new TempFolder();
        folder.Write("d/tarnstor.inf",
            Inf("tarnstor", "01/01/2026,1.0.0.0", install: install.Replace("CopyFiles", "\nCopyFiles", StringComparison.Ordinal)) + "\n"
            + more);
        folder.Write("d/tarnstor.sys", "x");
        var result = Do.Service(demo.CopyArchive(folder), null, new DriverChange([folder.At("d")], s_anything));
        Assert.Equal(ChangeStatus.Refused, result.Changes.Single().Status);
        Assert.Contains(expected.Replace('/', '\\'), result.Changes.Single().Why.Replace('/', '\\'), StringComparison.Ordinal);
        if (!expected.Contains("circle", StringComparison.Ordinal))
            Assert.Matches("line [0-9]+", result.Changes.Single().Why);
    }

    [Fact]
    public void WhatOnlyWindowsCanDoIsTold()
    {
        using var folder = new TempFolder();
        var install = "AddReg = r\nDelFiles = old\nAddProperty = p\nRegisterDlls = x";
        folder.Write("d/tarnstor.inf", Inf("tarnstor", "01/01/2026,1.0.0.0", install: install)
            + "\n[i.CoInstallers]\nAddReg = r\n[r]\nHKLM,Software\\Microsoft\\Windows\\CurrentVersion\\RunOnce,x,,cmd\n[old]\nold.sys\n");
        folder.Write("d/tarnstor.sys", "x");
        var why = Do.Service(demo.CopyArchive(folder), null, new DriverChange([folder.At("d")], s_anything)).Changes.Single().Why;
        Assert.Contains("left to Windows: files to remove, device properties, DLLs to register, a co-installer, commands for the next "
            + "start (RunOnce)", why, StringComparison.Ordinal);
    }

    [Fact]
    public void IncludesOfWindowsAreReadFromTheImage()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        folder.Write("helper.inf",
            "[Version]\nSignature=\"$WINDOWS NT$\"\n[Help.Services]\nAddService = "
            + "helper,,hs\n[hs]\nServiceType=1\nStartType=0\nErrorControl=1\nServiceBinary=%12%\\helper.sys\n");
        Do.Service(archive, null, new PutChange(folder.At("helper.inf"), "Windows/INF/"));
        var driver = Package(folder, "d", "tarnstor", "01/01/2026,1.0.0.0", "x",
            services: "Include = helper.inf, nothere.inf\nNeeds = Help.Services");
        var result = Do.Service(archive, null, new DriverChange([driver], s_anything));
        Assert.Contains("it includes nothere.inf, which the image does not have", result.Changes.Single().Why, StringComparison.Ordinal);
        Assert.Contains("/Services/helper/Start,DWORD,0x00000000", Registry(archive, "1", "SYSTEM", folder), StringComparison.Ordinal);
    }
}
