using Vembar.Common;
using Vembar.Operations;
using Vembar.Windows.Install;
using Vembar.Windows.Registry;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Answers;
using Vembar.Windows.Servicing.Drivers;
using Vembar.Windows.Servicing.Files;
using Vembar.Windows.Servicing.FirstStart;
using Vembar.Windows.Servicing.Languages;
using Vembar.Windows.Servicing.Mending;
using Vembar.Windows.Servicing.Orders;
using Vembar.Windows.Servicing.Packages;
using Vembar.Windows.Servicing.Registry;
using Vembar.Windows.Servicing.Tidying;
using Xunit;

namespace Vembar.Tests;

/// <summary>What the readiness checks find in images, and what of it is mended there.</summary>
public class MendTests(DemoFixture demo)
{
    private const string Head = "Windows Registry Editor Version 5.00\r\n";

    private static List<string> Findings(string image) =>
        [.. Do.Ready(ImageReference.Parse(image), null).Findings.Select(f => $"{f.Severity} {f.Check}")
        .Order(StringComparer.Ordinal)];

    // An image with everything that can be mended.
    private static void Spoil(string archive, TempFolder folder, string answers)
    {
        var reg = folder.Write("spoil.reg", $"""
            {Head}
            [HKEY_LOCAL_MACHINE\SOFTWARE\Microsoft\Windows NT\CurrentVersion\Winlogon]
            "AutoAdminLogon"="1"
            "DefaultUserName"="desk"
            "DefaultPassword"="made-up"
            "AutoLogonCount"=dword:00000005
            [HKEY_LOCAL_MACHINE\SOFTWARE\Microsoft\Cryptography]
            "MachineGuid"="0d0a0000-1111-2222-3333-444455556666"
            [HKEY_LOCAL_MACHINE\SOFTWARE\Microsoft\Windows\CurrentVersion\WindowsUpdate]
            "SusClientId"="0d0a0000-1111-2222-3333-444455557777"
            "SusClientIdValidation"=hex:01,02
            [HKEY_LOCAL_MACHINE\SYSTEM\MountedDevices]
            "\\DosDevices\\C:"=hex:44,4d,49,4f
            "\\DosDevices\\D:"=hex:44,4d,49,50
            [HKEY_LOCAL_MACHINE\SYSTEM\CurrentControlSet\Services\cdrom]
            "Start"=dword:00000004
            [HKEY_LOCAL_MACHINE\SYSTEM\CurrentControlSet\Services\WMPNetworkSvc]
            "Start"=dword:00000002
            """);
        Do.Service(archive, null, new RegistryChange(reg), new PutChange(answers, "Windows/Panther/unattend.xml"),
            new PutChange(answers, "Windows/Panther/Unattend/more.xml"), new PutChange(reg, "Windows/SoftwareDistribution/Download/x.cab"),
            new PutChange(reg, "Windows/System32/Sysprep/Panther/setupact.log"));
    }

    private string WithPassword(TempFolder folder) => folder.Write("with-password.xml",
        File.ReadAllText(demo.At("answers/lending-desk.xml"))
        .Replace("</unattend>",
            "<settings pass=\"oobeSystem\"><component name=\"Microsoft-Windows-Shell-Setup\" processorArchitecture=\"amd64\" "
            + "publicKeyToken=\"31bf3856ad364e35\" language=\"neutral\" "
            + "versionScope=\"nonSxS\"><UserAccounts><AdministratorPassword><Value>made-up</Value><PlainText>true</PlainText>"
            + "</AdministratorPassword></UserAccounts></component></settings></unattend>", StringComparison.Ordinal));

    [Fact]
    public void EverythingThatCanBeMendedIsMendedAndNothingElse()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var clean = Findings(archive);
        Spoil(archive, folder, WithPassword(folder));
        Assert.Equal(
            ["Note ballast", "Note machine-guid", "Note mounted-devices", "Note setup-logs", "Note update-client-id",
            "Stop answer-file-password", "Stop optical-driver-disabled", "Stop stored-password", "Warn media-sharing"],
            Findings(archive).Except(clean).Union(["Note setup-logs"]).Order(StringComparer.Ordinal));
        var mended = Do.Service(archive, null, new MendChange(["all"])).Changes;
        Assert.Equal(["answer-file-left: Already"], mended.Where(c => c.Status != ChangeStatus.Done).Select(c => $"{c.What}: {c.Status}"));
        Assert.DoesNotContain("automatic-logon", mended.Select(c => c.What));
        Assert.Contains("the password of desk is out", mended.Single(c => c.What == "stored-password").Why, StringComparison.Ordinal);
        Assert.Empty(Findings(archive).Except(clean));
        Assert.All(Do.Service(archive, null, new MendChange(["all"])).Changes, c => Assert.Equal(ChangeStatus.Already, c.Status));
        Do.WithTree(archive, 1, tree =>
        {
            var system = RegistryHive.Open(tree.ReadFile(WindowsInstall.HivePath("Windows", "SYSTEM"), RegistryHive.Longest)!,
                write: false, "SYSTEM");
            Assert.Equal((1u, 3u, 0), (system.Key(@"ControlSet001\Services\cdrom")!.GetDword("Start"),
                system.Key(@"ControlSet001\Services\WMPNetworkSvc")!.GetDword("Start"), system.Key("MountedDevices")!.Values.Count));
            var logon = RegistryHive.Open(tree.ReadFile(WindowsInstall.HivePath("Windows", "SOFTWARE"), RegistryHive.Longest)!,
                write: false, "SOFTWARE").Key(@"Microsoft\Windows NT\CurrentVersion\Winlogon")!;
            Assert.Equal(("0", null, null),
                (logon.GetString("AutoAdminLogon"), logon.GetString("DefaultPassword"), logon.GetDword("AutoLogonCount")));
            return 0;
        });
    }

    [Fact]
    public void TheAnswerFileThatServicingPutInStays()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var before = Findings(archive);
        Assert.Equal(ChangeStatus.Done, Do.Service(archive, null, new AnswersChange(WithPassword(folder))).Changes.Single().Status);
        Assert.Equal(["Note answer-file-password"], Findings(archive).Except(before));
        Assert.All(Do.Service(archive, null, new MendChange(["answer-file-password", "answer-file-left"])).Changes,
            c => Assert.Equal(ChangeStatus.Already, c.Status));
        // In one run too, whichever comes first.
        var other = Do.Service($"{archive}#1", "other", new AnswersChange(demo.At("answers/lending-desk.xml")), new MendChange(["all"]));
        Assert.Equal(ChangeStatus.Already, other.Changes.Single(c => c.What == "answer-file-left").Status);
    }

    [Fact]
    public void WhatOnlyWindowsCanMendIsRefused()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        Assert.Contains("it takes Windows on the reference",
            Do.Service(archive, "x", new MendChange(["domain-member"])).Changes.Single().Why, StringComparison.Ordinal);
        Assert.Equal("there is no such check; did you mean 'mounted-devices'?",
            Do.Service(archive, "x", new MendChange(["mounted-device"])).Changes.Single().Why);
        // Every check is either mended or refused by name.
        var known = File.ReadAllLines(Path.Combine(VendorCorpusTests.Folder(), "../../../../docs/readiness.md"))
            .Where(l => l.StartsWith("| `", StringComparison.Ordinal))
            .SelectMany(l => l.Split('|')[1].Split(',')).Select(n => n.Trim(' ', '`'))
                .Where(n => n.All(c => char.IsAsciiLetterLower(c) || c == '-')).Distinct().ToList();
        Assert.Equal(known.Order(), MendRule.All.Select(r => r.Name).Concat(MendRule.NotOffline).Order());
    }

    [Fact]
    public void RulesOfOnesOwnReachWhatNewUsersGet()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var rules = folder.Write("rules.yaml",
            "rules:\n  - check: screen\n    severity: stop\n    registry: NTUSER.DAT\\Control Panel\\Desktop\n    value: "
            + "ScreenSaveActive\n    equals: '1'\n    text: no screen saver\n    mend: set it\n");
        Assert.Contains(Do.Ready(ImageReference.Parse(archive), rules).Findings,
            f => f.Check == "screen" && f.Found.Contains("is missing", StringComparison.Ordinal));
        var reg = folder.Write("s.reg", $"{Head}[HKEY_CURRENT_USER\\Control Panel\\Desktop]\r\n\"ScreenSaveActive\"=\"1\"\r\n");
        Do.Service(archive, null, new RegistryChange(reg));
        Assert.DoesNotContain(Do.Ready(ImageReference.Parse(archive), rules).Findings, f => f.Check == "screen");
    }

    [Fact]
    public void AnOrderIsDraftedOfFoldersAndCanBeUsed()
    {
        using var folder = new TempFolder();
        var names = (string[])["drivers", "more-drivers", "packages", "answers", "house", "hardware", "trust"];
        var draft = OrderDraft.OfFolders([.. names.Select(n => demo.At(n))], folder.Path, default);
        var order = WorkOrder.Read(folder.Write("draft.yaml", draft.Text));
        Assert.Equal(draft.Changes, order.Count);
        Assert.Empty(OrderCheck.Run(order));
        Assert.Equal(["driver", "driver"], order.Files.Where(f => f.Kind == "driver").Select(f => f.Kind));
        Assert.Equal(6, order.Files.Count(f => f.Kind == "package"));
        Assert.Contains("# - answers: ", draft.Text, StringComparison.Ordinal);
        // A whole world, and an install that lies in it.
        Assert.DoesNotContain("references", OrderDraft.OfFolders([Path.GetDirectoryName(demo.At("drivers"))!], folder.Path, default).Text,
            StringComparison.Ordinal);
        Directory.CreateDirectory(folder.At("empty"));
        Assert.Equal("nothing-found",
            Assert.Throws<VembarException>(() => OrderDraft.OfFolders([folder.At("empty")], folder.Path, default)).Code);
    }

    [Fact]
    public void AnOrderIsDraftedOfWhatWasDoneAndDoesItAgain()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        Do.Service(archive, "first", new DriverChange([demo.At("drivers")], new DriverOptions
        {
            Trust = demo.Trust,
        }), new PackageChange([demo.At("packages/polish-1.0.zip")]),
            new LocaleChange("pl-PL", ["user"]), new AnswersChange(demo.At("answers/lending-desk.xml")),
            new FirstStartChange(new("", "cmd /c echo it's ${x} # 1", [0])),
            new PutChange(demo.At("house/opening-hours.txt"), "Users/Public/x.txt"), new TidyChange(["logs"]));
        var draft = OrderDraft.OfImage(Do.Record(ImageReference.Parse($"{archive}#first")), folder.Path);
        Assert.Contains("# - put: FILE", draft.Text, StringComparison.Ordinal);
        var order = WorkOrder.Read(folder.Write("again.yaml", draft.Text), new OrderOptions { Trust = [demo.At("trust")] });
        Assert.Empty(OrderCheck.Run(order));
        Do.Service($"{archive}#1", "second", [.. order.Changes, new PutChange(demo.At("house/opening-hours.txt"), "Users/Public/x.txt")]);
        var diff = Do.Diff(ImageReference.Parse($"{archive}#first"), ImageReference.Parse($"{archive}#second"), default);
        Assert.Empty(diff.Added.Concat(diff.Removed));
        Assert.Empty(diff.Registry ?? []);
        Assert.Equal("nothing-found",
            Assert.Throws<VembarException>(() => OrderDraft.OfImage(Do.Record(ImageReference.Parse($"{archive}#1")),
            folder.Path)).Code);
    }
}
