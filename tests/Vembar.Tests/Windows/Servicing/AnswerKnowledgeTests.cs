using System.Text;
using CsCheck;
using Vembar.Common;
using Vembar.Images.Paths;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Answers;
using Xunit;

namespace Vembar.Tests;

public class AnswerKnowledgeTests(DemoFixture demo)
{
    private static IReadOnlyList<AnswerFinding> Check(string pass, string component, string settings) =>
        AnswerFile.Parse(Encoding.UTF8.GetBytes(
        $"<unattend xmlns=\"{AnswerFile.Namespace}\">\n<settings pass=\"{pass}\">\n<component name=\"{component}\" "
        + $"processorArchitecture=\"amd64\">\n{settings}\n</component></settings></unattend>"), "x").Check("x64");

    [Theory]
    [InlineData("specialize", "Microsoft-Windows-Shell-Setup", "<TimeZone>GMT Standart Time</TimeZone>",
        "line 4: 'GMT Standart Time' is not among the time zones that are known here; did you mean 'GMT Standard Time'?")]
    [InlineData("specialize", "Microsoft-Windows-Shell-Setup", "<OOBE/>",
        "line 4: 'OOBE' does nothing in pass 'specialize'; it works in oobeSystem")]
    [InlineData("windowsPE", "Microsoft-Windows-Shell-Setup", "",
        "line 3: component 'Microsoft-Windows-Shell-Setup' does nothing in pass 'windowsPE'")]
    [InlineData("specialize", "Microsoft-Windows-Shel-Setup", "", "did you mean 'Microsoft-Windows-Shell-Setup'?")]
    [InlineData("specialize", "Microsoft-Windows-Shell-Setup", "<TimeZon>x</TimeZon>",
        "'TimeZon' is not known in component 'Microsoft-Windows-Shell-Setup'; did you mean 'TimeZone'?")]
    [InlineData("specialize", "Microsoft-Windows-Shell-Setup", "<ProductKey>ABC</ProductKey>", "a product key is five groups")]
    [InlineData("specialize", "Microsoft-Windows-Shell-Setup", "<ComputerName>a b</ComputerName>", "holds ' '")]
    [InlineData("specialize", "Microsoft-Windows-Shell-Setup", "<TimeZone>UTC</TimeZone><TimeZone>UTC</TimeZone>",
        "'TimeZone' appears twice")]
    [InlineData("oobeSystem", "Microsoft-Windows-International-Core", "<UILanguage>english</UILanguage>", "'english' is not a locale")]
    [InlineData("oobeSystem", "Microsoft-Windows-International-Core", "<InputLocale>0809:809</InputLocale>",
        "'0809:809' is not an input locale")]
    [InlineData("oobeSystem", "Microsoft-Windows-Shell-Setup", "<OOBE><HideEULAPage>yes</HideEULAPage></OOBE>",
        "'HideEULAPage' is true or false")]
    [InlineData("oobeSystem", "Microsoft-Windows-Shell-Setup", "<Display><HorizontalResolution>wide</HorizontalResolution></Display>",
        "'HorizontalResolution' is a number")]
    [InlineData("oobeSystem", "Microsoft-Windows-Shell-Setup",
        "<FirstLogonCommands><SynchronousCommand><Order>1</Order></SynchronousCommand><SynchronousCommand><Order>1</Order>"
        + "</SynchronousCommand></FirstLogonCommands>", "order 1 appears twice in 'FirstLogonCommands'")]
    [InlineData("windowsPE", "Microsoft-Windows-Setup",
        "<DiskConfiguration><Disk><CreatePartitions><CreatePartition><Order>1</Order></CreatePartition></CreatePartitions>"
        + "<ModifyPartitions><ModifyPartition><Order>1</Order><PartitionID>2</PartitionID></ModifyPartition></ModifyPartitions></Disk>"
        + "</DiskConfiguration>", "partition 2 is not among those that are made on that disk (1)")]
    [InlineData("oobeSystem", "Microsoft-Windows-Shell-Setup",
        "<UserAccounts><AdministratorPassword><Value>secret</Value></AdministratorPassword></UserAccounts>",
        "holds a password in plain text")]
    [InlineData("specialize", "Microsoft-Windows-UnattendedJoin",
        "<Identification><Credentials><Password>secret</Password></Credentials></Identification>", "holds a password in plain text")]
    [InlineData("oobeSystem", "Microsoft-Windows-Shell-Setup",
        "<UserAccounts><AdministratorPassword><Value>cwA=</Value><PlainText>false</PlainText></AdministratorPassword></UserAccounts>",
        "hidden, not protected")]
    public void MistakesAreToldWithTheirLine(string pass, string component, string settings, string expected) =>
        Assert.Contains(expected, string.Join('\n', Check(pass, component, settings)), StringComparison.Ordinal);

    [Theory]
    [InlineData("<UserAccounts><LocalAccounts><LocalAccount><Name>Desk</Name></LocalAccount><LocalAccount><Name>desk</Name>"
        + "</LocalAccount></LocalAccounts></UserAccounts>", "the account 'Desk' is there twice")]
    [InlineData("<UserAccounts><LocalAccounts><LocalAccount><Name>a name that is far too "
        + "long</Name></LocalAccount></LocalAccounts></UserAccounts>", "has 27 characters; 20 are possible")]
    [InlineData("<UserAccounts><LocalAccounts><LocalAccount><Name>a/b</Name></LocalAccount></LocalAccounts></UserAccounts>", "in it")]
    [InlineData("<Interfaces><Interface><UnicastIpAddresses><IpAddress>10.20.0.300/24</IpAddress></UnicastIpAddresses></Interface>"
        + "</Interfaces>", "'10.20.0.300/24' is not an address")]
    [InlineData("<Interfaces><Interface><UnicastIpAddresses><IpAddress>10.20.5/24</IpAddress></UnicastIpAddresses></Interface>"
        + "</Interfaces>", "'10.20.5/24' is not an address")]
    [InlineData("<Interfaces><Interface><UnicastIpAddresses><IpAddress>10.20.0.5/33</IpAddress></UnicastIpAddresses></Interface>"
        + "</Interfaces>", "'10.20.0.5/33' is not an address")]
    [InlineData("<Interfaces><Interface><UnicastIpAddresses><IpAddress>fd00::5/64</IpAddress></UnicastIpAddresses></Interface>"
        + "</Interfaces>", "")]
    [InlineData("<Interfaces><Interface><UnicastIpAddresses><IpAddress>{{address}}</IpAddress></UnicastIpAddresses></Interface>"
        + "</Interfaces>", "")]
    [InlineData("<UserData><ProductKey><Key></Key></ProductKey></UserData>", "")]
    [InlineData("<UserData><ProductKey><Key/></ProductKey></UserData>", "")]
    public void AccountsAddressesAndKeysAreLookedAt(string setting, string expected)
    {
        var text = $"<unattend xmlns=\"urn:schemas-microsoft-com:unattend\"><settings pass=\"oobeSystem\"><component "
            + $"name=\"Tarn-Other\" processorArchitecture=\"amd64\">{setting}</component></settings></unattend>";
        var errors = AnswerFile.Parse(System.Text.Encoding.UTF8.GetBytes(text), "x.xml").Check("x64").Where(f => f.IsError).ToList();
        if (expected.Length == 0)
            Assert.Empty(errors);
        else
            Assert.Contains(expected, Assert.Single(errors).Text, StringComparison.Ordinal);
    }

    [Fact]
    public void CommandsMayBeAsLongAsWindowsTakesThem()
    {
        List<string> Errors(string element, int length) =>
            [.. AnswerFile.Parse(System.Text.Encoding.UTF8.GetBytes($"<unattend xmlns=\"urn:schemas-microsoft-com:unattend\"><settings "
            + $"pass=\"oobeSystem\"><component name=\"Tarn-Other\" "
            + $"processorArchitecture=\"amd64\"><List><{element}>{new string('x', length)}</{element}></List></component></settings>"
            + $"</unattend>"), "x.xml")
            .Check("x64").Where(f => f.IsError).Select(f => f.Text)];
        Assert.Empty(Errors("CommandLine", 1024));
        Assert.Equal(["the command has 1025 characters; Windows takes up to 1024"], Errors("CommandLine", 1025));
        Assert.Empty(Errors("Path", 259));
        Assert.Equal(["the command or path has 260 characters; Windows takes up to 259"], Errors("Path", 260));
    }

    [Fact]
    public void WhatTheDemoUsesIsInOrder()
    {
        foreach (var file in Directory.EnumerateFiles(demo.At("answers"), "*.xml"))
            Assert.Empty(AnswerFile.Parse(File.ReadAllBytes(file), file).Check("x64"));
    }

    [Fact]
    public void AProfileMakesAFileThatIsInOrder()
    {
        var made = AnswerProfile.Make(demo.At("answers/bookmobile.yaml"));
        Assert.DoesNotContain(made.Check("x64"), f => f.IsError);
        using var folder = new TempFolder();
        File.WriteAllBytes(folder.At("a.xml"), made.ToBytes());
        string X(params string[] names) =>
            Tools.Run("xmllint", ["--xpath", $"string(/{string.Concat(names.Select(n => $"/*[local-name()='{n}']"))})", folder.At("a.xml")])
            .Trim();
        Assert.Equal("GMT Standard Time", X("TimeZone"));
        Assert.Equal("OU=Bookmobiles,DC=tarnvalley,DC=example", X("MachineObjectOU"));
        Assert.Equal("Slate-and-heather-26AdministratorPassword",
            Encoding.Unicode.GetString(Convert.FromBase64String(X("AdministratorPassword", "Value"))));
        Assert.Equal("Overdue-is-fine-4Password",
            Encoding.Unicode.GetString(Convert.FromBase64String(X("LocalAccount", "Password", "Value"))));
        Assert.Equal(["specialize", "oobeSystem"],
            Tools.Run("xmllint", ["--xpath", "//@pass", folder.At("a.xml")]).Split('"').Where((_, i) => i % 2 == 1));
        made.SetComputerName("TVL-BM-02", "x64");
        var text = Encoding.UTF8.GetString(made.ToBytes());
        Assert.Contains("/register-desk TVL-BM-02", text, StringComparison.Ordinal);
        Assert.DoesNotContain("{{", text, StringComparison.Ordinal);
    }

    [Fact]
    public void HiddenPasswordsAreNotPlainAnyMore()
    {
        var file = AnswerFile.Parse(Encoding.UTF8.GetBytes($"<unattend xmlns=\"{AnswerFile.Namespace}\"><settings "
            + $"pass=\"oobeSystem\"><component name=\"Microsoft-Windows-Shell-Setup\" "
            + $"processorArchitecture=\"amd64\"><UserAccounts><AdministratorPassword><Value>secret</Value><PlainText>true</PlainText>"
            + $"</AdministratorPassword></UserAccounts></component></settings></unattend>"), "x");
        Assert.Equal(1, file.HidePasswords());
        Assert.Equal(0, file.HidePasswords());
        Assert.DoesNotContain("secret", Encoding.UTF8.GetString(file.ToBytes()), StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("computr: x", "did you mean 'computer'?")]
    [InlineData("computer: a b", "holds ' '")]
    [InlineData("architecture: mips", "'architecture' is amd64, arm64 or x86")]
    [InlineData("skip: [licence, everything]", "'everything' is not a page that can be skipped")]
    [InlineData("accounts:\n  - name: a/b\n    password: x", "line 2: 'a/b' is not an account's name")]
    [InlineData("domain:\n  user: x", "a domain has a name")]
    public void MistakesInAProfileAreTold(string lines, string expected)
    {
        using var folder = new TempFolder();
        var problem = Assert.Throws<VembarException>(() => AnswerProfile.Make(folder.Write("p.yaml", lines + "\n")));
        Assert.Contains(expected, string.Join('\n', problem.Details.Prepend(problem.Message)), StringComparison.Ordinal);
    }

    [Fact]
    public void HostileFilesEndInFindingsOrAnError()
    {
        var good = File.ReadAllBytes(demo.At("answers/lending-desk.xml"));
        Gen.Select(Gen.Int[0, good.Length - 1], Gen.Byte, Gen.Int[0, 60]).Sample((at, value, gone) =>
        {
            byte[] bytes = [.. good[..at], value, .. good[Math.Min(good.Length, at + gone)..]];
            try
            {
                AnswerFile.Parse(bytes, "x").Check("x64");
            }
            catch (VembarException problem)
            {
                Assert.Equal("bad-answer-file", problem.Code);
            }
        }, iter: 1500);
    }

    private static AnswerFile Parse(string inner) =>
        AnswerFile.Parse(Encoding.UTF8.GetBytes($"<unattend xmlns=\"{AnswerFile.Namespace}\" xmlns:wcm=\"w\">{inner}</unattend>"), "x");

    private static string Settings(string pass, string component, string settings) =>
        $"<settings pass=\"{pass}\"><component name=\"{component}\" processorArchitecture=\"amd64\">{settings}</component></settings>";

    [Fact]
    public void MergingTakesOverWhatIsNewAndKeepsTheRest()
    {
        static string Command(int order, string line, string more = "") =>
            $"<SynchronousCommand wcm:action=\"add\"><Order>{order}</Order><CommandLine>{line}</CommandLine>{more}</SynchronousCommand>";
        static string Account(string name, string group) =>
            $"<LocalAccount wcm:action=\"add\"><Name>{name}</Name><Group>{group}</Group></LocalAccount>";
        const string Shell = "Microsoft-Windows-Shell-Setup";
        var into = Parse(Settings("specialize", Shell, "<ComputerName>OLD</ComputerName><TimeZone>UTC</TimeZone>")
            + Settings("oobeSystem", Shell,
            $"<FirstLogonCommands>{Command(1, "one")}{Command(2, "two")}</FirstLogonCommands><UserAccounts>"
            + $"<LocalAccounts>{Account("a", "Users")}</LocalAccounts></UserAccounts>"));
        var other = Parse(Settings("specialize", Shell, "<ComputerName>NEW</ComputerName>")
            + Settings("specialize", "Microsoft-Windows-Deployment", "<ExtendOSPartition><Extend>true</Extend></ExtendOSPartition>")
            .Replace("<settings pass=\"specialize\">", "<settings pass=\"generalize\">", StringComparison.Ordinal)
            + Settings("oobeSystem", Shell,
            $"<FirstLogonCommands>{Command(1, "three")}{Command(2, "one", "<Description>x</Description>")}</FirstLogonCommands>"
            + $"<UserAccounts><LocalAccounts>{Account("a", "Administrators")}{Account("b", "Users")}</LocalAccounts></UserAccounts>"));
        Assert.Equal(6, into.Merge(other));
        using var folder = new TempFolder();
        File.WriteAllBytes(folder.At("m.xml"), into.ToBytes());
        string X(string path) => Tools.Run("xmllint", ["--xpath", path, folder.At("m.xml")]).Trim();
        Assert.Equal("NEW", X("string(//*[local-name()='ComputerName'])"));
        Assert.Equal("UTC", X("string(//*[local-name()='TimeZone'])"));
        Assert.Equal("1 one 2 two 3 three",
            string.Join(' ',
            Enumerable.Range(1, 3)
            .Select(i => X($"concat((//*[local-name()='Order'])[{i}], ' ', (//*[local-name()='CommandLine'])[{i}])"))));
        Assert.Equal("a Administrators b Users",
            X("concat((//*[local-name()='Name'])[1], ' ', (//*[local-name()='Group'])[1], ' ', (//*[local-name()='Name'])[2], ' ', "
            + "(//*[local-name()='Group'])[2])"));
        Assert.Equal("x", X("string(//*[local-name()='Description'])"));
        Assert.Equal("true", X("string(//*[local-name()='Extend'])"));
        // Once more nothing is new.
        Assert.Equal(0, into.Merge(other));
    }

    [Fact]
    public void ServicingMergesIntoTheImagesAnswersOrReplacesThem()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        Do.Service(archive, null, new AnswersChange(demo.At("answers/lending-desk.xml")));
        var more = folder.Write("more.yaml", "computer: TVL-DESK-001\nworkgroup: VALLEY\n");
        var merged = Do.Service(archive, null, new AnswersChange(more, merge: true)).Changes.Single();
        Assert.Contains("merged into Windows/Panther/unattend.xml", merged.Why, StringComparison.Ordinal);
        string Now() =>
            Do.WithTree(archive, 1, t => Encoding.UTF8.GetString(t.ReadFile(WindowsPath.Parse("Windows/Panther/unattend.xml"), 1 << 20)!));
        Assert.Contains("<JoinWorkgroup>VALLEY</JoinWorkgroup>", Now(), StringComparison.Ordinal);
        Assert.Contains("<ComputerName>TVL-DESK-001</ComputerName>", Now(), StringComparison.Ordinal);
        Assert.Contains("HideEULAPage", Now(), StringComparison.Ordinal);
        Assert.Equal(ChangeStatus.Already, Do.Service(archive, null, new AnswersChange(more, merge: true)).Changes.Single().Status);
        Do.Service(archive, null, new AnswersChange(more));
        Assert.DoesNotContain("HideEULAPage", Now(), StringComparison.Ordinal);
    }

    [Fact]
    public void APlaceholderIsFilledAtDeploymentOrStandsInTheWayOfADisk()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        Do.Service(archive, null, new AnswersChange(demo.At("answers/reading-room.yaml")));
        Assert.Contains("the answer file still has {{desk}}",
            Do.Deploy(archive, folder.At("plain")).Warnings.Single(w => w.Contains("{{", StringComparison.Ordinal)),
            StringComparison.Ordinal);
        Assert.Equal("placeholders-left", Assert.Throws<VembarException>(() => Do.Deploy(archive, folder.At("d.img"), r => r with
        {
            Size = 2L << 30,
        })).Code);
        Assert.False(File.Exists(folder.At("d.img")));
        var fill = new Dictionary<string, string> { ["desk"] = "014" };
        Assert.DoesNotContain(Do.Deploy(archive, folder.At("named"), r => r with
        {
            Fill = fill,
        }).Warnings, w => w.Contains("{{", StringComparison.Ordinal));
        Assert.Contains("<ComputerName>TVL-READ-014</ComputerName>", File.ReadAllText(folder.At("named/Windows/Panther/unattend.xml")),
            StringComparison.Ordinal);
        var wrong = Assert.Throws<VembarException>(() => Do.Deploy(archive, folder.At("x"), r => r with
        {
            Fill = new Dictionary<string, string> { ["dsk"] = "1" },
        }));
        Assert.Equal(("known-placeholders", "{{desk}}"), (wrong.Advice!.Word, wrong.Advice.Arguments["value"]));
        Assert.Equal("bad-answer-file", Assert.Throws<VembarException>(() => Do.Deploy(archive, folder.At("x"), r => r with
        {
            Fill = new Dictionary<string, string> { ["desk"] = "far too long" },
        })).Code);
    }

    [Fact]
    public void AProfileDividesADisk()
    {
        using var folder = new TempFolder();
        foreach (var layout in (string[])["uefi", "bios"])
        {
            var made = AnswerProfile.Make(folder.Write("p.yaml", $"disk:\n  number: 0\n  layout: {layout}\n"));
            Assert.Empty(made.Check("x64"));
            File.WriteAllBytes(folder.At("p.xml"), made.ToBytes());
            string X(string path) => Tools.Run("xmllint", ["--xpath", path, folder.At("p.xml")]).Trim();
            Assert.Equal(layout == "uefi" ? "EFI MSR Primary Primary" : "Primary Primary",
                string.Join(' ', Enumerable.Range(1, layout == "uefi" ? 4 : 2).Select(i => X($"string((//*[local-name()='Type'])[{i}])"))));
            // Windows takes what is left, so it is made last, and is where set-up goes.
            Assert.Equal("true", X("string((//*[local-name()='CreatePartition'])[last()]/*[local-name()='Extend'])"));
            Assert.Equal(X("string((//*[local-name()='CreatePartition'])[last()]/*[local-name()='Order'])"),
                X("string(//*[local-name()='InstallTo']/*[local-name()='PartitionID'])"));
            Assert.Equal(0, Tools.Try("xmllint", ["--noout", "--schema", Schema, folder.At("p.xml")]).Code);
        }
    }

    private static string Schema => Path.Combine(Repository.Root, "docs/schemas/answer-file.xsd");

    [Fact]
    public void TheSchemaTakesWhatIsInOrderAndRefusesTheRest()
    {
        using var folder = new TempFolder();
        var files = Directory.EnumerateFiles(demo.At("answers"), "*.xml").ToList();
        foreach (var profile in Directory.EnumerateFiles(demo.At("answers"), "*.yaml"))
        {
            File.WriteAllBytes(folder.At(Path.GetFileName(profile) + ".xml"), AnswerProfile.Make(profile).ToBytes());
            files.Add(folder.At(Path.GetFileName(profile) + ".xml"));
        }
        Assert.All(files, f => Assert.Equal(0, Tools.Try("xmllint", ["--noout", "--schema", Schema, f]).Code));
        foreach (var bad in (string[])[Settings("specialise", "x", ""),
            "<settings pass=\"specialize\"><component name=\"x\" processorArchitecture=\"x64\"/></settings>", "<settings/>",
            "<component/>", Settings("specialize", "x", "") + Settings("specialize", "y", "")])
        {
            File.WriteAllBytes(folder.At("bad.xml"), Parse(bad).ToBytes());
            Assert.NotEqual(0, Tools.Try("xmllint", ["--noout", "--schema", Schema, folder.At("bad.xml")]).Code);
        }
    }
}
