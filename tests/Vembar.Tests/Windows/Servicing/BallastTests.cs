using CsCheck;
using Vembar.Common;
using Vembar.Images.Paths;
using Vembar.Operations;
using Vembar.Windows.Install;
using Vembar.Windows.Registry;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Files;
using Vembar.Windows.Servicing.Packages;
using Vembar.Windows.Servicing.Tidying;
using Xunit;

namespace Vembar.Tests;

public class BallastTests(DemoFixture demo)
{
    private static bool Exists(string archive, string path) => Do.WithTree(archive, 1, t => t.Exists(WindowsPath.Parse(path)));

    private static T InHive<T>(string archive, string hive, Func<RegistryHive, T> look) => Do.WithTree(archive, 1, t =>
    {
        var open = WindowsInstall.OpenHive(t, "Windows", hive);
        return look(open);
    });

    [Fact]
    public void RulesTakeOutAllThatTheyName()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var before = Do.Show(ImageReference.Parse(archive));
        Assert.Equal(["Demo.Calculator", "Demo.CasualGames", "Demo.Offers"], before.Apps!.Select(a => a.Name));
        var done = Do.Service(archive, null, new BallastChange(demo.At("house/ballast.yaml"), []));
        Assert.Equal("Games and offers: 2 apps, 7 files|The vendor's care centre: 1 program's entry, 1 service, 1 task, 3 files",
            string.Join('|', done.Changes.Select(c => c.Why)));
        // What the rules say they saved is what the image lost, but for the hives.
        var hives = ((string[])["SYSTEM", "SOFTWARE"]).Sum(h => Do.WithTree(archive, 1,
            t => t.Find(WindowsInstall.HivePath("Windows", h))!.Length) - Do.WithTree(demo.Archive, 1,
                t => t.Find(WindowsInstall.HivePath("Windows", h))!.Length));
        Assert.Equal(done.Image.Bytes - before.Image.Bytes, done.Changes.Sum(c => c.Bytes) + hives);
        var after = Do.Show(ImageReference.Parse(archive));
        Assert.Equal(["Demo.Calculator"], after.Apps!.Select(a => a.Name));
        Assert.DoesNotContain(after.Programs!, p => p.Name == "Oakmere Care Centre");
        foreach (var gone in (string[])["Program Files/Oakmere Care", "Windows/System32/Tasks/Oakmere",
            "Program Files/WindowsApps/Demo.Offers_1.8.5.0_x64__9d4m2hpub1a",
            "ProgramData/Microsoft/Windows/AppRepository/Demo.CasualGames_3.2.0.0_x64__9d4m2hpub1a.xml",
            "Users/Public/Desktop/Oakmere offers.url"])
            Assert.False(Exists(archive, gone), gone);
        Assert.True(Exists(archive, "Program Files/WindowsApps/Demo.Calculator_11.0.2.0_x64__9d4m2hpub1a/Demo.Calculator.dll"));
        Assert.True(InHive(archive, "SYSTEM",
            h => h.Key(@"ControlSet001\Services\OakmereCare") is null && h.Key(@"ControlSet001\Services\EventLog") is not null));
        const string Cache = @"Microsoft\Windows NT\CurrentVersion\Schedule\TaskCache";
        Assert.True(InHive(archive, "SOFTWARE",
            h => h.Key($@"{Cache}\Tree\Oakmere\Care daily") is null && h.Key($@"{Cache}\Tasks")!.Subkeys.Count == 0
                && h.Key($@"{Cache}\Plain")!.Subkeys.Count == 0));
        // An update of Windows does not bring it back.
        Assert.True(InHive(archive, "SOFTWARE",
            h => h.Key(@"Microsoft\Windows\CurrentVersion\Appx\AppxAllUserStore\Deprovisioned\Demo.Offers_9d4m2hpub1a") is not null));
        Assert.All(Do.Service(archive, null, new BallastChange(demo.At("house/ballast.yaml"), [])).Changes,
            c => Assert.Equal(ChangeStatus.Already, c.Status));
    }

    [Fact]
    public void RulesCanBeChosen()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        Assert.Equal(["care-centre"],
            Do.Service(archive, null, new BallastChange(demo.At("house/ballast.yaml"), ["Care-Centre"])).Changes.Select(c => c.What));
        var refused = Do.Service(archive, null, new BallastChange(demo.At("house/ballast.yaml"), ["nothing"])).Changes.Single();
        Assert.Equal((ChangeStatus.Refused, "there is no rule 'nothing' in it; it has games-and-offers, care-centre"),
            (refused.Status, refused.Why));
    }

    [Theory]
    [InlineData("rules: []", "it has no rules")]
    [InlineData("rules:\n  - name: a\n", "the rule 'a' takes nothing out")]
    [InlineData("rules:\n  - name: a\n    app: x\n", "did you mean 'apps'?")]
    [InlineData("rules:\n  - name: a\n    paths: ['*']\n", "would match what Windows is made of")]
    [InlineData("rules:\n  - name: a\n    paths: ['x/../../y']\n", "leads upward")]
    [InlineData("rules:\n  - name: a\n    paths: x\n  - name: A\n    paths: y\n", "there are two rules 'A'")]
    [InlineData("rules:\n  - name: 'a b'\n    paths: x\n", "is not a rule's name")]
    [InlineData("rules:\n  - x\n", "a rule is a mapping")]
    [InlineData("ruls:\n  - x\n", "'ruls' is not known")]
    public void RulesThatAreNoneAreSaid(string text, string expected)
    {
        using var folder = new TempFolder();
        var problem = Assert.Throws<VembarException>(() => BallastRule.Read(folder.Write("r.yaml", text)));
        Assert.Contains(expected, $"{problem.Message}\n{string.Join('\n', problem.Details)}", StringComparison.Ordinal);
    }

    [Fact]
    public void AMistakeInARuleLeavesAllAsItWas()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        folder.Write("bad.reg", "Windows Registry Editor Version 5.00\n\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\X\n");
        var result = Do.Service(archive, null,
            new BallastChange(folder.Write("r.yaml", "rules:\n  - name: a\n    paths: Users/Public\n    registry: bad.reg\n  - name: b\n "
            + "   registry: none.reg\n"), []));
        Assert.Equal([ChangeStatus.Refused, ChangeStatus.Refused], result.Changes.Select(c => c.Status));
        Assert.Contains("line 3", result.Changes[0].Why, StringComparison.Ordinal);
        Assert.True(Exists(archive, "Users/Public"));
    }

    [Fact]
    public void TidyingTakesWhatItsRulesSayAndNothingElse()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        foreach (var path in (string[])["Windows/Temp/a.tmp", "Windows/Logs/CBS/CBS.log", "Windows/Minidump/1.dmp",
            "Windows/SoftwareDistribution/Download/x/y.bin", "Windows.old/Windows/x", "Windows/Prefetch/A.pf",
            "Users/Default/AppData/Local/Temp/b", "Windows/System32/keep.log"])
            folder.Write($"put/{path}", "12345");
        Do.Service(archive, null, new PutChange(folder.At("put"), ""));
        var listed = Do.Show(ImageReference.Parse(archive), planTidying: true).Tidy!;
        Assert.Equal(TidyRule.All.Select(r => r.Name), listed.Select(t => t.What));
        var bytes = Do.Show(ImageReference.Parse(archive)).Image.Bytes;
        Assert.Equal([ChangeStatus.Done], Do.Service(archive, null, new TidyChange(["dumps"])).Changes.Select(c => c.Status));
        Assert.Equal((false, true),
            (Exists(archive, "Windows/Minidump/1.dmp"), Exists(archive, "Windows/Minidump") || Exists(archive, "Windows/Temp/a.tmp")));
        var all = Do.Service(archive, null, new TidyChange(["all"]));
        Assert.Equal(bytes - 5 + all.Changes.Sum(c => c.Bytes), all.Image.Bytes);
        Assert.Equal(listed.Where(t => t.What is not ("dumps" or TidyRule.Registry)).Select(t => (t.What, t.Bytes)),
            all.Changes.Where(t => t.What != "dumps").Select(t => (t.What, t.Bytes)));
        Assert.Equal((false, false, false, false, true, true),
            (Exists(archive, "Windows/Temp/a.tmp"), Exists(archive, "Windows.old"), Exists(archive, "Windows/Panther/setupact.log"),
            Exists(archive, "Windows/Logs/CBS/CBS.log"), Exists(archive, "Windows/Temp"), Exists(archive, "Windows/System32/keep.log")));
        Assert.All(Do.Service(archive, null, new TidyChange(["all"])).Changes, c => Assert.Equal(ChangeStatus.Already, c.Status));
        Assert.Contains("did you mean 'dumps'?", Do.Service(archive, null, new TidyChange(["dump"])).Changes.Single().Why,
            StringComparison.Ordinal);
    }

    [Fact]
    public void OlderDriversGoWhenANewerVersionIsThere()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        Do.Service(archive, null, demo.Add(demo.At("more-drivers/corrin-network-2.9.zip")));
        Do.Service(archive, null, demo.Add(demo.Driver("corrin-network"), demo.Driver("pell-barcode")));
        Assert.Equal(3, Do.Show(ImageReference.Parse(archive)).Drivers!.Count);
        Assert.Equal("cornet.inf 2.9.1.0 (oem0.inf)", Do.Service(archive, null, new TidyChange(["older-drivers"])).Changes.Single().Why);
        Assert.Equal(["2.10.3.7", "1.4.0.21"], Do.Show(ImageReference.Parse(archive)).Drivers!.Select(d => d.Version));
    }

    // Versions of a package that add, replace and leave out files, one on top of the other, tidied at any moment: taken out, the image is
    // as it was.
    [Fact]
    public void TidiedOrNotTakingThePackageOutBringsTheFirstTreeBack()
    {
        using var folder = new TempFolder();
        var file = Gen.Select(Gen.Int[0, 4], Gen.Int[0, 2], (name, text) => (Name: $"f{name}", Text: $"text {text}"));
        var count = 0;
        Gen.Select(file.Array[0, 4], file.Array[1, 4].Array[1, 4], Gen.Int[0, 3]).Sample((there, versions, tidyAfter) =>
        {
            var at = $"case{count++}";
            var archive = folder.At($"{at}.vmb");
            File.Copy(demo.Archive, archive);
            foreach (var (name, text) in there)
                folder.Write($"{at}/image/House/{name}", text);
            if (there.Length > 0)
                Do.Service(archive, null, new PutChange(folder.At($"{at}/image"), ""));
            var root = Do.Show(ImageReference.Parse(archive)).Image.Root;
            for (var i = 0; i < versions.Length; i++)
            {
                var made = $"{at}/v{i + 1}";
                folder.Write($"{made}/package.yaml",
                    $"format: 1\nname: house\nversion: {i + 1}\nkind: update\nfiles:\n  - from: f\n    to: House\n");
                foreach (var (name, text) in versions[i])
                    folder.Write($"{made}/f/{name}", text);
                Package.Make(folder.At(made), folder.At($"{made}.zip"));
                Do.Service(archive, null, new PackageChange([folder.At($"{made}.zip")]));
                if (i == tidyAfter)
                    Do.Service(archive, null, new TidyChange(["replaced-packages"]));
            }
            Do.Service(archive, null, new TidyChange(["replaced-packages"]));
            Assert.Single(Do.Show(ImageReference.Parse(archive)).Packages!);
            Assert.Equal(root, Do.Service(archive, null, new PackageRemoval("house")).Image.Root);
            Directory.Delete(folder.At(at), recursive: true);
            File.Delete(archive);
        }, iter: 25, threads: 1);
    }
}
