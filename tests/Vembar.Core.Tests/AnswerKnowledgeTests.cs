using System.Text;
using CsCheck;
using Vembar.Core.Servicing.Answers;
using Xunit;

namespace Vembar.Core.Tests;

public class AnswerKnowledgeTests(DemoFixture demo)
{
    private static IReadOnlyList<AnswerFinding> Check(string pass, string component, string settings) => AnswerFile.Parse(Encoding.UTF8.GetBytes(
        $"<unattend xmlns=\"{AnswerFile.Namespace}\">\n<settings pass=\"{pass}\">\n<component name=\"{component}\" processorArchitecture=\"amd64\">\n{settings}\n</component></settings></unattend>"), "x").Check("x64");

    [Theory]
    [InlineData("specialize", "Microsoft-Windows-Shell-Setup", "<TimeZone>GMT Standart Time</TimeZone>", "line 4: 'GMT Standart Time' is not among the time zones that are known here; did you mean 'GMT Standard Time'?")]
    [InlineData("specialize", "Microsoft-Windows-Shell-Setup", "<OOBE/>", "line 4: 'OOBE' does nothing in pass 'specialize'; it works in oobeSystem")]
    [InlineData("windowsPE", "Microsoft-Windows-Shell-Setup", "", "line 3: component 'Microsoft-Windows-Shell-Setup' does nothing in pass 'windowsPE'")]
    [InlineData("specialize", "Microsoft-Windows-Shel-Setup", "", "did you mean 'Microsoft-Windows-Shell-Setup'?")]
    [InlineData("specialize", "Microsoft-Windows-Shell-Setup", "<TimeZon>x</TimeZon>", "'TimeZon' is not known in component 'Microsoft-Windows-Shell-Setup'; did you mean 'TimeZone'?")]
    [InlineData("specialize", "Microsoft-Windows-Shell-Setup", "<ProductKey>ABC</ProductKey>", "a product key is five groups")]
    [InlineData("specialize", "Microsoft-Windows-Shell-Setup", "<ComputerName>a b</ComputerName>", "holds ' '")]
    [InlineData("specialize", "Microsoft-Windows-Shell-Setup", "<TimeZone>UTC</TimeZone><TimeZone>UTC</TimeZone>", "'TimeZone' appears twice")]
    [InlineData("oobeSystem", "Microsoft-Windows-International-Core", "<UILanguage>english</UILanguage>", "'english' is not a locale")]
    [InlineData("oobeSystem", "Microsoft-Windows-International-Core", "<InputLocale>0809:809</InputLocale>", "'0809:809' is not an input locale")]
    [InlineData("oobeSystem", "Microsoft-Windows-Shell-Setup", "<OOBE><HideEULAPage>yes</HideEULAPage></OOBE>", "'HideEULAPage' is true or false")]
    [InlineData("oobeSystem", "Microsoft-Windows-Shell-Setup", "<Display><HorizontalResolution>wide</HorizontalResolution></Display>", "'HorizontalResolution' is a number")]
    [InlineData("oobeSystem", "Microsoft-Windows-Shell-Setup", "<FirstLogonCommands><SynchronousCommand><Order>1</Order></SynchronousCommand><SynchronousCommand><Order>1</Order></SynchronousCommand></FirstLogonCommands>", "order 1 appears twice in 'FirstLogonCommands'")]
    [InlineData("windowsPE", "Microsoft-Windows-Setup", "<DiskConfiguration><Disk><CreatePartitions><CreatePartition><Order>1</Order></CreatePartition></CreatePartitions><ModifyPartitions><ModifyPartition><Order>1</Order><PartitionID>2</PartitionID></ModifyPartition></ModifyPartitions></Disk></DiskConfiguration>", "partition 2 is not among those that are made on that disk (1)")]
    [InlineData("oobeSystem", "Microsoft-Windows-Shell-Setup", "<UserAccounts><AdministratorPassword><Value>secret</Value></AdministratorPassword></UserAccounts>", "holds a password in plain text")]
    [InlineData("specialize", "Microsoft-Windows-UnattendedJoin", "<Identification><Credentials><Password>secret</Password></Credentials></Identification>", "holds a password in plain text")]
    [InlineData("oobeSystem", "Microsoft-Windows-Shell-Setup", "<UserAccounts><AdministratorPassword><Value>cwA=</Value><PlainText>false</PlainText></AdministratorPassword></UserAccounts>", "hidden, not protected")]
    public void MistakesAreToldWithTheirLine(string pass, string component, string settings, string expected) =>
        Assert.Contains(expected, string.Join('\n', Check(pass, component, settings)), StringComparison.Ordinal);

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
        string X(params string[] names) => Tools.Run("xmllint", ["--xpath", $"string(/{string.Concat(names.Select(n => $"/*[local-name()='{n}']"))})", folder.At("a.xml")]).Trim();
        Assert.Equal("GMT Standard Time", X("TimeZone"));
        Assert.Equal("OU=Bookmobiles,DC=tarnvalley,DC=example", X("MachineObjectOU"));
        Assert.Equal("Slate-and-heather-26AdministratorPassword", Encoding.Unicode.GetString(Convert.FromBase64String(X("AdministratorPassword", "Value"))));
        Assert.Equal("Overdue-is-fine-4Password", Encoding.Unicode.GetString(Convert.FromBase64String(X("LocalAccount", "Password", "Value"))));
        Assert.Equal(["specialize", "oobeSystem"], Tools.Run("xmllint", ["--xpath", "//@pass", folder.At("a.xml")]).Split('"').Where((_, i) => i % 2 == 1));
        made.SetComputerName("TVL-BM-02", "x64");
        var text = Encoding.UTF8.GetString(made.ToBytes());
        Assert.Contains("/register-desk TVL-BM-02", text, StringComparison.Ordinal);
        Assert.DoesNotContain("{{", text, StringComparison.Ordinal);
    }

    [Fact]
    public void HiddenPasswordsAreNotPlainAnyMore()
    {
        var file = AnswerFile.Parse(Encoding.UTF8.GetBytes($"<unattend xmlns=\"{AnswerFile.Namespace}\"><settings pass=\"oobeSystem\"><component name=\"Microsoft-Windows-Shell-Setup\" processorArchitecture=\"amd64\"><UserAccounts><AdministratorPassword><Value>secret</Value><PlainText>true</PlainText></AdministratorPassword></UserAccounts></component></settings></unattend>"), "x");
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
}
