using Vembar.Common;
using Vembar.Demo;
using Vembar.Images.Records;
using Vembar.Windows.Inspection;
using Vembar.Windows.Registry;
using Xunit;

namespace Vembar.Tests;

public class ReadyTests(DemoFixture demo, DemoDisks disks)
{
    private static IReadOnlyList<Finding> Look(string source, string? rules = null) =>
        Do.Ready(source, null, rules, NoProgress.Instance, CancellationToken.None).Findings;

    public static TheoryData<string, string> Spoiled
    {
        get
        {
            var data = new TheoryData<string, string>();
            foreach (var (name, check) in DemoWorld.Spoiled)
                data.Add(name, check);
            return data;
        }
    }

    [Theory]
    [MemberData(nameof(Spoiled))]
    public void EachSpoiledReferenceGivesItsFindingAndIsNotCaptured(string name, string check)
    {
        using var folder = new TempFolder();
        var disk = disks.At($"spoiled/{name}.qcow2");
        var hash = Tools.Run("b3sum", [disk]);
        var stops = Look(disk).Where(f => f.Severity == Severity.Stop).ToList();
        Assert.NotEmpty(stops);
        Assert.All(stops, f => Assert.Equal(check, f.Check));
        Assert.All(stops, f => Assert.True(f.Text.Length > 0 && f.Found.Length > 0 && f.Remedy.Length > 0));
        var problem = Assert.Throws<VembarException>(() => Do.Capture(disk, folder.At("a.vmb")));
        Assert.Equal("not-ready", problem.Code);
        Assert.False(File.Exists(folder.At("a.vmb")));
        // Accepted all the same, the image says what was known of it.
        var image = Do.Capture(disk, folder.At("a.vmb"), with: r => r with { AcceptUnready = true }).Image;
        Assert.Contains(image.Findings!, f => f.Check == check);
        Assert.Equal(hash, Tools.Run("b3sum", [disk]));
    }

    [Fact]
    public void TheGoodOneGivesNothingAboveANote()
    {
        Assert.All(Look(disks.LendingDesk), f => Assert.Equal(Severity.Note, f.Severity));
        Assert.All(Look(demo.Reference("lending-desk"), disks.At("house/readiness.yaml")), f => Assert.Equal(Severity.Note, f.Severity));
    }

    // A copy of a reference without its bulk, to be spoiled.
    private string Copy(TempFolder folder)
    {
        var target = folder.At("install");
        Tools.Run("sh",
            ["-c", $"mkdir -p '{target}/Windows/System32' '{target}/Windows/Setup/State' && cd '{demo.Reference("lending-desk")}' && cp "
            + $"-r Windows/System32/config '{target}/Windows/System32/' && cp Windows/System32/ntoskrnl.exe "
            + $"'{target}/Windows/System32/' && cp Windows/Setup/State/State.ini '{target}/Windows/Setup/State/'"]);
        return target;
    }

    private static void Change(string install, string name, Action<RegistryHive> change)
    {
        var path = Path.Combine(install, "Windows/System32/config", name);
        var hive = RegistryHive.Open(File.ReadAllBytes(path), write: true, name);
        change(hive);
        File.WriteAllBytes(path, hive.ToBytes());
    }

    // Why generalizing failed, with which app package it was and whose; and how often it was begun.
    [Fact]
    public void WhyGeneralizingFailedIsNamed()
    {
        using var folder = new TempFolder();
        var install = Copy(folder);
        Change(install, "SOFTWARE", hive =>
        {
            hive.Root.Ensure(@"Microsoft\Windows\CurrentVersion\Appx\AppxAllUserStore\S-1-5-21-1-2-3-1001\Alone_1.0_x64__k3n2");
            hive.Root.Ensure(@"Microsoft\Windows NT\CurrentVersion\ProfileList\S-1-5-21-1-2-3-1001")
                .SetString("ProfileImagePath", @"C:\Users\ranmoor", RegistryType.ExpandString);
            hive.Root.Ensure(@"Microsoft\Windows\CurrentVersion\Setup\State").SetString("ImageState", "IMAGE_STATE_COMPLETE");
        });
        const string Log = "install/Windows/System32/Sysprep/Panther";
        folder.Write($"{Log}/setupact.log", string.Concat(Enumerable.Repeat(
            "2026-11-27 10:12:00, Info                  SYSPRP ParseCommands:Found supported command line option 'GENERALIZE'\r\n", 6)));
        folder.Write($"{Log}/setuperr.log", "2026-11-27 10:12:03, Error                 SYSPRP Package Alone_1.0_x64__k3n2 was installed "
            + "for a user, but not provisioned for all users. This package will not function properly in the sysprep image.\r\n");
        var findings = Look(install);
        Assert.StartsWith("Alone_1.0_x64__k3n2 of ranmoor: ", findings.Single(f => f.Check == "generalize-app").Found,
            StringComparison.Ordinal);
        Assert.Equal(("6 times, by setupact.log", Severity.Warn), findings.Where(f => f.Check == "generalized-often")
            .Select(f => (f.Found, f.Severity)).Single());
        folder.Write($"{Log}/setuperr.log", "2026-11-27 10:12:03, Error                 SYSPRP something that nobody has heard of\r\n");
        Assert.EndsWith("nobody has heard of", Look(install).Single(f => f.Check == "generalize-failed").Found, StringComparison.Ordinal);
    }

    [Fact]
    public void EveryCheckFindsWhatItIsFor()
    {
        using var folder = new TempFolder();
        var install = Copy(folder);
        Assert.Empty(Look(install));
        Change(install, "SYSTEM", hive =>
        {
            hive.Root.Ensure(@"ControlSet001\Services\cdrom").SetDword("Start", 4);
            hive.Root.Ensure(@"ControlSet001\Services\WMPNetworkSvc").SetDword("Start", 2);
            hive.Root.Ensure(@"Setup\Upgrade").SetDword("x", 1);
            hive.Root.Ensure("MountedDevices").Set(@"\DosDevices\C:", RegistryType.Binary, [1, 2, 3]);
        });
        Change(install, "SOFTWARE", hive =>
        {
            hive.Root.Ensure(@"Microsoft\Cryptography").SetString("MachineGuid", "6f2c");
            hive.Root.Ensure(@"Microsoft\Windows\CurrentVersion\Appx\AppxAllUserStore\Applications\Both_1.0");
            hive.Root.Ensure(@"Microsoft\Windows\CurrentVersion\Appx\AppxAllUserStore\S-1-5-21-1-2-3-1001\Both_1.0");
            hive.Root.Ensure(@"Microsoft\Windows\CurrentVersion\Appx\AppxAllUserStore\S-1-5-21-1-2-3-1001\Alone_1.0");
            hive.Root.Ensure(@"Microsoft\Windows NT\CurrentVersion\ProfileList\S-1-5-21-1-2-3-1001")
                .SetString("ProfileImagePath", @"C:\Users\desk", RegistryType.ExpandString);
            hive.Root.Ensure(@"Microsoft\Windows NT\CurrentVersion\ProfileList\S-1-5-21-1-2-3-500")
                .SetString("ProfileImagePath", @"C:\Users\Administrator", RegistryType.ExpandString);
            hive.Root.Ensure(@"Microsoft\Windows NT\CurrentVersion\Winlogon").SetString("AutoAdminLogon", "1");
            hive.Root.Ensure(@"Microsoft\Windows\CurrentVersion\Setup\State")
                .SetString("ImageState", "IMAGE_STATE_GENERALIZE_RESEAL_TO_AUDIT");
        });
        folder.Write("install/Users/desk/big.bin", new byte[3 << 20]);
        folder.Write("install/Windows.old/Windows/x.dll", new byte[2 << 20]);
        folder.Write("install/Windows/WinSxS/pending.xml", "<x/>");
        folder.Write("install/Windows/System32/Sysprep/left.xml", "<unattend xmlns=\"urn:schemas-microsoft-com:unattend\"/>");
        folder.Write("install/hiberfil.sys", new byte[4096]);
        var findings = Look(install);
        Assert.Equal(
            ["answer-file-left", "app-for-one-user", "audit-mode", "automatic-logon", "ballast", "machine-guid", "media-sharing",
            "mounted-devices", "optical-driver-disabled", "profile-left", "state-differs", "updates-pending", "upgraded"],
            findings.Select(f => f.Check).Order(StringComparer.Ordinal));
        Assert.Equal(findings.OrderByDescending(f => f.Severity).Select(f => f.Severity), findings.Select(f => f.Severity));
        Assert.Contains("3.0 MiB", findings.Single(f => f.Check == "profile-left").Found, StringComparison.Ordinal);
        Assert.Contains("Windows.old (2.0 MiB)", findings.Single(f => f.Check == "ballast").Found, StringComparison.Ordinal);
        Assert.Contains("Alone_1.0", findings.Single(f => f.Check == "app-for-one-user").Found, StringComparison.Ordinal);
        Assert.DoesNotContain("Both_1.0", findings.Single(f => f.Check == "app-for-one-user").Found, StringComparison.Ordinal);
    }

    [Fact]
    public void ALogThatIsNewerThanItsHiveIsFound()
    {
        using var folder = new TempFolder();
        var install = Copy(folder);
        var hive = File.ReadAllBytes(Path.Combine(install, "Windows/System32/config/SOFTWARE"));
        var sequence = BitConverter.ToUInt32(hive, 8);
        byte[] Log(uint entry)
        {
            var log = new byte[4096];
            "regf"u8.CopyTo(log);
            "HvLE"u8.CopyTo(log.AsSpan(512));
            BitConverter.GetBytes(entry).CopyTo(log, 512 + 12);
            return log;
        }
        folder.Write("install/Windows/System32/config/SOFTWARE.LOG1", Log(sequence - 1));
        Assert.Empty(Look(install));
        folder.Write("install/Windows/System32/config/SOFTWARE.LOG1", Log(sequence));
        Assert.Equal("registry-not-flushed", Assert.Single(Look(install)).Check);
        // A hive that is none is a finding too, not a crash.
        folder.Write("install/Windows/System32/config/SECURITY", "this is not a hive");
        Assert.Contains(Look(install), f => f is { Check: "hive-damaged", Severity: Severity.Stop });
    }

    [Theory]
    [InlineData("<AdministratorPassword><Value>abc</Value></AdministratorPassword>", "AdministratorPassword")]
    [InlineData("<AutoLogon><Password><Value>abc</Value></Password></AutoLogon>", "Password")]
    [InlineData("<Credentials><Password>abc</Password></Credentials>", "Password")]
    [InlineData("<Password><Value>*SENSITIVE*DATA*DELETED*</Value></Password>", null)]
    [InlineData("<Password><Value></Value></Password>", null)]
    [InlineData("<Display><Value>abc</Value></Display>", null)]
    [InlineData("<broken", null)]
    public void PasswordsInAnswerFilesAreFound(string inner, string? element)
    {
        using var folder = new TempFolder();
        var install = Copy(folder);
        folder.Write("install/Windows/Panther/Unattend/a.xml",
            $"<unattend xmlns=\"urn:schemas-microsoft-com:unattend\">{inner}</unattend>");
        var finding = Assert.Single(Look(install));
        Assert.Equal(element is null ? ("answer-file-left", Severity.Warn) : ("answer-file-password", Severity.Stop),
            (finding.Check, finding.Severity));
        if (element is not null)
            Assert.EndsWith($": {element}", finding.Found, StringComparison.Ordinal);
    }

    private const string Frame = "rules:\n  - check: mine\n    severity: stop\n    text: it is not so\n    mend: make it so\n    ";

    [Theory]
    [InlineData("registry: SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion\n    value: EditionID\n    equals: enterprise", null)]
    [InlineData("registry: SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion\n    value: EditionID\n    equals: Education",
        @"SOFTWARE\Microsoft\Windows NT\CurrentVersion\EditionID is Enterprise")]
    [InlineData("registry: SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion\n    value: UBR\n    matches: ^40\\d\\d$", null)]
    [InlineData("registry: SOFTWARE\\No\\Such\n    present: yes", @"SOFTWARE\No\Such is missing")]
    [InlineData("registry: SOFTWARE\\No\\Such\n    present: no", null)]
    [InlineData("registry: SYSTEM\\Services\\Tcpip\\Parameters\n    value: Hostname\n    present: no",
        @"SYSTEM\Services\Tcpip\Parameters\Hostname is there: WIN-7Q2K9LDTARN")]
    [InlineData("file: Windows/System32/NTOSKRNL.exe\n    present: yes", null)]
    [InlineData("file: Windows/nothing\n    present: yes", "Windows/nothing is missing")]
    [InlineData("service: Spooler\n    start: automatic", null)]
    [InlineData("service: Spooler\n    start: disabled", "the service Spooler starts automatic, not disabled")]
    [InlineData("service: Nobody\n    start: disabled", "there is no service Nobody")]
    public void RulesOfTheOrganisationAreChecked(string rule, string? found)
    {
        using var folder = new TempFolder();
        var findings = Look(Copy(folder), folder.Write("rules.yaml", Frame + rule + "\n"));
        if (found is null)
            Assert.Empty(findings);
        else
            Assert.Equal(new Finding("mine", Severity.Stop, "it is not so", found, "make it so"), Assert.Single(findings));
    }

    [Theory]
    [InlineData("file: x", "exactly one thing")]
    [InlineData("file: x\n    service: y\n    present: yes", "exactly one of registry, file, service")]
    [InlineData("file: x\n    start: disabled", "a file rule cannot have 'start'")]
    [InlineData("service: x\n    start: sometimes", "'sometimes' is not one of")]
    [InlineData("registry: HKLM\\x\n    present: yes", "does not begin with a hive")]
    [InlineData("registry: SYSTEM\\x\n    equals: y", "need 'value'")]
    [InlineData("registry: SYSTEM\\x\n    value: y\n    matches: '('", "not a regular expression")]
    [InlineData("file: x\n    present: perhaps", "'present' is yes or no")]
    [InlineData("file: x\n    present: yes\n    colour: red", "'colour' is not known here")]
    public void WrongRulesAreToldWithTheirLines(string rule, string says)
    {
        using var folder = new TempFolder();
        var path = folder.Write("rules.yaml", Frame + rule + "\n");
        var problem = Assert.Throws<VembarException>(() => ReadinessRule.Read(path));
        Assert.Equal("bad-rules", problem.Code);
        Assert.Contains(says, problem.Message, StringComparison.Ordinal);
        Assert.Matches("line [0-9]+", problem.Message);
    }
}
