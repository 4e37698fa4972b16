using Vembar.Images.Paths;
using Vembar.Operations;
using Vembar.Operations.Service;
using Vembar.Windows.Registry;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Drivers;
using Vembar.Windows.Servicing.Tidying;
using Xunit;

namespace Vembar.Tests;

/// <summary>Packages in the shapes in which vendors ship them.</summary>
public class VendorDriverTests(DemoFixture demo)
{
    private const string Net = @"PCI\VEN_F1C0&DEV_7001", NetOfOther = @"PCI\VEN_F1C0&DEV_7002";

    // A package without a catalog: "name", what else stands in [Version], its devices, and further sections.
    private static string Package(TempFolder folder, string place, string name, string version, string[] ids, string kind = "Net",
        string head = "", string install = "", string more = "", string provider = "Corrin Silicon")
    {
        var classId = kind switch
        {
            "Net" => "{4d36e972-e325-11ce-bfc1-08002be10318}",
            "Extension" => "{e2f84ce7-8efa-411c-aa77-97454ca4f3db}",
            "SoftwareComponent" => "{5c4c3332-344d-483c-8739-259e934c9cc8}",
            _ => "{4d36e96c-e325-11ce-bfc1-08002be10318}",
        };
        var models = string.Concat(ids.Select((id, i) => $"\"Device {i}\"=Install,{id}\r\n"));
        folder.Write($"{place}/{name}.inf", $"""
            [Version]
            Signature="$WINDOWS NT$"
            Class={kind}
            ClassGuid={classId}
            Provider="{provider}"
            DriverVer={version}
            CatalogFile={name}.cat
            PnpLockdown=1
            {head}
            [Manufacturer]
            "{provider}"=Models,NTamd64
            [Models.NTamd64]
            {models}
            [Install.NT]
            {install}
            {more}
            """);
        return folder.At($"{place}/{name}.inf");
    }

    private static readonly HardwareProfile s_model = new("Fellside T9", [new HardwareDevice("network card", [Net], [], true, false)]);

    private static DriverChange Add(string[] paths, params HardwareProfile[] models) => new(paths, new DriverOptions
    {
        AllowUnsigned = true,
        For = models,
    });

    private static List<string> Told(ServiceResult result) =>
        [.. result.Changes.Select(c => $"{Path.GetFileName(c.What)}: {c.Status}{(c.Status == ChangeStatus.Done ? "" : $", {c.Why}")}")];

    [Fact]
    public void AnExtensionGoesBesideTheDriverAndNeverInItsPlace()
    {
        using var folder = new TempFolder();
        Package(folder, "d/base", "cornet9", "03/01/2025,9.1.0.0", [Net]);
        Package(folder, "d/ext1", "cornet9ext", "01/01/2026,1.0.0.0", [Net], "Extension",
            "ExtensionId={0d0a0000-1111-2222-3333-444455556666}");
        Package(folder, "d/ext2", "cornet9ext", "06/01/2026,1.2.0.0", [Net], "Extension",
            "ExtensionId={0d0a0000-1111-2222-3333-444455556666}");
        Package(folder, "d/other", "cornet9oem", "07/01/2026,4.0.0.0", [Net], "Extension",
            "ExtensionId={0d0a0000-1111-2222-3333-444455557777}");
        var device = Do.Coverage([folder.At("d")], null, "amd64", [s_model], DriverTrust.Nobody).Models[0].Devices[0];
        Assert.Equal("cornet9.inf", device.Chosen!.Driver.Name);
        Assert.Equal(["cornet9ext.inf 1.2.0.0", "cornet9oem.inf 4.0.0.0"],
            device.Beside.Select(b => $"{b.Driver.Name} {b.Driver.Version}").Order(StringComparer.Ordinal));
        var loser = Assert.Single(device.Others);
        Assert.Equal(("1.0.0.0", "it is older (2026-01-01)"), (loser.Driver.Version.ToString(), loser.LosesTo(device.WinnerOver(loser)!)));
        // With the extensions alone, the device has no driver.
        Assert.False(Do.Coverage([folder.At("d/ext2")], null, "amd64", [s_model], DriverTrust.Nobody).IsInOrder);
        var archive = demo.CopyArchive(folder);
        var done = Do.Service(archive, null, Add([folder.At("d")], s_model));
        Assert.Equal(["cornet9.inf: Done", "cornet9ext.inf: Done", $"cornet9ext.inf: Skipped, older than 1.2.0.0 in "
            + $"{folder.At("d/ext2/cornet9ext.inf")}", "cornet9oem.inf: Done"], Told(done).Order(StringComparer.Ordinal));
    }

    [Fact]
    public void PackagesOfOneNameForOtherDevicesAreNoVersionsOfEachOther()
    {
        using var folder = new TempFolder();
        Package(folder, "d/a", "cornet", "03/01/2025,9.1.0.0", [Net]);
        Package(folder, "d/b", "cornet", "06/01/2026,9.5.0.0", [NetOfOther]);
        var rows = Do.Drivers([folder.At("d")], null, DriverTrust.Nobody, NoProgress.Instance, CancellationToken.None);
        Assert.All(rows, r => Assert.Equal("", r.OlderThan));
        var archive = demo.CopyArchive(folder);
        Assert.All(Do.Service(archive, null, Add([folder.At("d")])).Changes, c => Assert.Equal(ChangeStatus.Done, c.Status));
        // For the model, the other device's package is not needed, and not older either.
        using var another = new TempFolder();
        var other = demo.CopyArchive(another);
        Assert.Equal(["cornet.inf: Done", "cornet.inf: Skipped, no device of Fellside T9 would get it; 0 KiB left out"],
            Told(Do.Service(other, null, Add([folder.At("d")], s_model))));
        // One that serves both is newer than both, also in the image.
        Package(folder, "d2/c", "cornet", "08/01/2026,9.6.0.0", [Net, NetOfOther]);
        var replaced = Do.Service(archive, null, new DriverChange([folder.At("d2")], new DriverOptions
        {
            AllowUnsigned = true,
            ReplaceOlder = true,
        })).Changes.Single();
        Assert.Contains("in place of 9.1.0.0", replaced.Why, StringComparison.Ordinal);
        Assert.Contains("9.5.0.0", replaced.Why, StringComparison.Ordinal);
        // An older one of fewer devices is not wanted any more.
        Assert.Contains("the image has a newer one, 9.6.0.0", Do.Service(archive, null, Add([folder.At("d/a")])).Changes.Single().Why,
            StringComparison.Ordinal);
        Assert.Equal("9.6.0.0", Do.Drivers([folder.At("d"), folder.At("d2")], null, DriverTrust.Nobody, NoProgress.Instance,
            CancellationToken.None).Where(r => r.OlderThan.Length > 0).Select(r => "9.6.0.0").Distinct().Single());
    }

    [Fact]
    public void TidyingKeepsWhatServesOtherDevices()
    {
        using var folder = new TempFolder();
        Package(folder, "d/a", "cornet", "03/01/2025,9.1.0.0", [Net]);
        Package(folder, "d/b", "cornet", "06/01/2026,9.5.0.0", [NetOfOther]);
        Package(folder, "d/c", "cornet", "07/01/2026,9.7.0.0", [NetOfOther, NetOfOther + "&REV_01"]);
        var archive = demo.CopyArchive(folder);
        Do.Service(archive, null, new DriverChange([folder.At("d")], new DriverOptions { AllowUnsigned = true, EveryVersion = true }));
        var tidied = Do.Service(archive, null, new TidyChange(["older-drivers"])).Changes.Single();
        Assert.Contains("cornet.inf 9.5.0.0", tidied.Why, StringComparison.Ordinal);
        Assert.DoesNotContain("9.1.0.0", tidied.Why, StringComparison.Ordinal);
    }

    [Fact]
    public void ComponentsComeWithTheDriverThatBringsThem()
    {
        using var folder = new TempFolder();
        Package(folder, "d/base", "cornet9", "03/01/2025,9.1.0.0", [Net],
            more: "[Install.NT.Components]\r\nAddComponent=CornetPanel,,Panel\r\n[Panel]\r\nComponentIDs=VID1FA0&PID0001\r\n");
        Package(folder, "d/ext", "cornet9ext", "01/01/2026,1.0.0.0", [Net], "Extension",
            "ExtensionId={0d0a0000-1111-2222-3333-444455556666}",
            more: "[Install.NT.Components]\r\nAddComponent=CornetTray,,Tray\r\n[Tray]\r\nComponentIDs=VID1FA0&PID0002\r\n");
        Package(folder, "d/panel", "cornetpanel", "01/01/2026,2.0.0.0", [@"SWC\VID1FA0&PID0001"], "SoftwareComponent",
            more: "[Install.NT.Software]\r\nAddSoftware=CornetPanel,,PanelSoftware\r\n[PanelSoftware]\r\nSoftwareType=1\r\n");
        Package(folder, "d/tray", "cornettray", "01/01/2026,2.0.0.0", [@"SWC\VID1FA0&PID0002"], "SoftwareComponent");
        Package(folder, "d/stray", "stray", "01/01/2026,2.0.0.0", [@"SWC\VID1FA0&PID0009"], "SoftwareComponent");
        var archive = demo.CopyArchive(folder);
        var done = Do.Service(archive, null, Add([folder.At("d")], s_model));
        Assert.Equal(["cornet9.inf: Done", "cornet9ext.inf: Done", "cornetpanel.inf: Done", "cornettray.inf: Done",
            "stray.inf: Skipped, no device of Fellside T9 would get it; 0 KiB left out"], Told(done).Order(StringComparer.Ordinal));
        Assert.Contains("left to Windows: software of a component",
            done.Changes.Single(c => c.What.EndsWith("cornetpanel.inf", StringComparison.Ordinal)).Why, StringComparison.Ordinal);
        // Also when the image has the driver already, and the component alone is given.
        var second = Do.Service($"{archive}#1", "without", new DriverRemoval("cornetpanel.inf"));
        Assert.Equal(["cornetpanel.inf: Done"],
            Told(Do.Service($"{archive}#{second.Image.Number}", null, Add([folder.At("d/panel")], s_model))));
        Assert.Contains("left to Windows: components",
            done.Changes.Single(c => c.What.EndsWith("cornet9.inf", StringComparison.Ordinal)).Why, StringComparison.Ordinal);
    }

    [Fact]
    public void ACatalogThatIsMissingMakesAPackageUnsignedAndNotIncomplete()
    {
        using var folder = new TempFolder();
        Package(folder, "d", "cornet9", "03/01/2025,9.1.0.0", [Net]);
        var row = Do.Drivers([folder.At("d")], null, DriverTrust.Nobody, NoProgress.Instance, CancellationToken.None).Single();
        Assert.Equal(("unsigned", "its security catalog cornet9.cat is missing", 0),
            (row.Signature!.Word, row.Signature.Why, row.MissingFiles.Count));
        var archive = demo.CopyArchive(folder);
        Assert.Equal("unsigned: its security catalog cornet9.cat is missing",
            Do.Service(archive, null, new DriverChange([folder.At("d")], new DriverOptions())).Changes.Single().Why);
        Assert.Contains("NOT TRUSTED, unsigned: its security catalog cornet9.cat is missing",
            Do.Service(archive, null, Add([folder.At("d")])).Changes.Single().Why, StringComparison.Ordinal);
    }

    [Fact]
    public void EveryDeviceIsListedWithItsIds()
    {
        using var folder = new TempFolder();
        Package(folder, "d", "cornet9", "03/01/2025,9.1.0.0", [Net + "," + NetOfOther, @"PCI\VEN_F1C0&DEV_7009"]);
        var row = Do.Drivers([folder.At("d")], null, DriverTrust.Nobody, NoProgress.Instance, CancellationToken.None).Single();
        Assert.Equal([$"Device 0: {Net} {NetOfOther}", @"Device 1: PCI\VEN_F1C0&DEV_7009"],
            row.DeviceList.Select(d => $"{d.Description}: {string.Join(' ', d.Ids)}"));
    }

    [Fact]
    public void NoDirectiveIsPassedOverInSilence()
    {
        using var folder = new TempFolder();
        Package(folder, "d", "cornet9", "03/01/2025,9.1.0.0", [Net],
            install: "RegisterDlls=Dlls\r\nUpdateInis=Inis\r\nReboot=1\r\nCopyINF=other.inf\r\n", more: """
            [Install.NT.Services]
            AddService=cornet9,2,Service
            DelService=cornet8
            [Service]
            ServiceType=1
            StartType=3
            ErrorControl=1
            ServiceBinary=%12%\cornet9.sys
            AddTrigger=Trigger
            [Install.NT.Filters]
            AddFilter=cornflt,,Filter
            [Install.NT.Interfaces]
            AddInterface={ad498944-762f-11d0-8dca-00c04fc3358c},,Interface
            [Install.NT.Events]
            AddEventProvider={0d0a0000-1111-2222-3333-444455558888},Provider
            [Install.NT.WMI]
            WMIInterface={0d0a0000-1111-2222-3333-444455559999},0,Wmi
            """);
        var row = Do.Drivers([folder.At("d")], null, DriverTrust.Nobody, NoProgress.Instance, CancellationToken.None).Single();
        Assert.Equal("", row.Problem);
        Assert.Equal(
            ["DLLs to register", "WMI classes", "a restart", "changes to .ini files", "device interfaces", "event providers", "filters",
            "services to remove", "triggers of services"],
            row.LeftToWindows.Order(StringComparer.Ordinal));
    }

    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public void WhatAnInfBringsWithCopyInfComesAlong(bool forModel)
    {
        using var folder = new TempFolder();
        Package(folder, "d", "cornet9", "03/01/2025,9.1.0.0", [Net], install: "CopyINF=cornet9x.inf,gone.inf\r\n");
        Package(folder, "d", "cornet9x", "03/01/2025,9.1.0.0", [@"ROOT\CORNET9X"], "System", install: "CopyINF=cornet9y.inf");
        Package(folder, "d", "cornet9y", "03/01/2025,9.1.0.0", [@"ROOT\CORNET9Y"], "System");
        var archive = demo.CopyArchive(folder);
        // The folder with a model, or the one INF alone.
        var done = forModel ? Do.Service(archive, null, Add([folder.At("d")], s_model))
            : Do.Service(archive, null, Add([folder.At("d/cornet9.inf")]));
        Assert.Equal(["cornet9.inf: Done", "cornet9x.inf: Done", "cornet9y.inf: Done"], Told(done).Order(StringComparer.Ordinal));
        Assert.Contains("it brings gone.inf, which is not beside it",
            done.Changes.Single(c => c.What.EndsWith("cornet9.inf", StringComparison.Ordinal)).Why, StringComparison.Ordinal);

        using var other = new TempFolder();
        var second = demo.CopyArchive(other);
        var path = Do.Service(second, null, new DriverPathChange([folder.At("d/cornet9.inf")], new DriverOptions { AllowUnsigned = true }));
        Assert.Equal(ChangeStatus.Done, Assert.Single(path.Changes).Status);
        Assert.Equal(["cornet9.inf", "cornet9x.inf", "cornet9y.inf"], Do.WithTree(second, 1, t => t.Walk(t.Root, WindowsPath.Root)
            .Select(e => e.Path.ToString())
                .Where(p => p.StartsWith("Drivers/", StringComparison.Ordinal) && p.EndsWith(".inf", StringComparison.Ordinal))
                    .Select(p => Path.GetFileName(p)).Order().ToList()));
    }

    [Fact]
    public void AFilterForNoDeviceIsInstalledAndTakenOutAgain()
    {
        using var folder = new TempFolder();
        var corpus = VendorCorpusTests.Folder();
        Directory.CreateDirectory(folder.At("d"));
        File.Copy(Path.Combine(corpus, "filter-only.inf"), folder.At("d/filter-only.inf"));
        folder.Write("d/smflt.sys", "filter");
        var archive = demo.CopyArchive(folder);
        var done = Assert.Single(Do.Service(archive, null, Add([folder.At("d")])).Changes);
        Assert.Contains("for no device, as oem0.inf; service smflt installed", done.Why, StringComparison.Ordinal);
        Assert.Contains("not made, and Windows will not either: changes to the registry", done.Why, StringComparison.Ordinal);
        Do.WithTree(archive, 1, tree =>
        {
            Assert.Equal("filter",
                System.Text.Encoding.UTF8.GetString(tree.ReadFile(WindowsPath.Parse("Windows/System32/drivers/smflt.sys"), 100)!));
            var system = RegistryHive.Open(tree.ReadFile(WindowsPath.Parse("Windows/System32/config/SYSTEM"), RegistryHive.Longest)!,
                write: false, "SYSTEM");
            var service = system.Key(@"ControlSet001\Services\smflt")!;
            Assert.Equal((2u, 1u, @"System32\drivers\smflt.sys", "FSFilter Activity Monitor"),
                (service.GetDword("Type"), service.GetDword("Start"), service.GetString("ImagePath"), service.GetString("Group")));
            Assert.Equal("370999", system.Key(@"ControlSet001\Services\smflt\Instances\smflt Instance")!.GetString("Altitude"));
            return 0;
        });
        Assert.Equal(ChangeStatus.Already, Assert.Single(Do.Service(archive, null, Add([folder.At("d")])).Changes).Status);
        Assert.Contains("it goes in without models",
            Assert.Single(Do.Service($"{archive}#1", "model", Add([folder.At("d")], s_model)).Changes).Why, StringComparison.Ordinal);
        Assert.Equal(ChangeStatus.Done, Assert.Single(Do.Service($"{archive}#1", null, new DriverRemoval("oem0.inf")).Changes).Status);
        Assert.False(Do.WithTree(archive, 1, t => t.Walk(t.Root, WindowsPath.Root).Any(e => e.Path.Name is "smflt.sys" or "oem0.inf")));
    }

    [Fact]
    public void AnInfThatOnlyCopiesFilesIsNoDriver()
    {
        using var folder = new TempFolder();
        folder.Write("d/tool.inf",
            "[Version]\r\nSignature=\"$Windows "
            + "NT$\"\r\nProvider=x\r\nDriverVer=01/01/2025,1.0\r\n[DefaultInstall]\r\nCopyFiles=@tool.exe\r\n");
        folder.Write("d/tool.exe", "x");
        Assert.Equal("it is for no device", Assert.Single(Do.Service(demo.CopyArchive(folder), "x", Add([folder.At("d")])).Changes).Why);
    }

    [Fact]
    public void WhatAnImageHasIsListedForItsWindows()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var image = ImageReference.Parse(archive);
        Assert.Empty(Do.Drivers([], image, demo.Trust, NoProgress.Instance, CancellationToken.None));
        Do.Service(archive, null, new DriverChange([demo.Driver("corrin-network"), demo.Driver("corrin-storage")], new DriverOptions
        {
            Trust = demo.Trust,
        }));
        var rows = Do.Drivers([], image, demo.Trust, NoProgress.Instance, CancellationToken.None);
        Assert.Equal([("oem0.inf", "cornet.inf", "amd64", 0), ("oem1.inf", "corstor.inf", "amd64", 0)],
            rows.Select(r => (Path.GetFileName(r.Path), r.Inf, string.Join(',', r.Architectures), r.MissingFiles.Count)));
        Assert.All(rows, r => Assert.Equal(SignatureState.Signed, r.Signature!.State));
        Assert.All(rows, r => Assert.Equal(r.Devices, r.DeviceList.Count));
    }
}
