using CsCheck;
using Vembar.Common;
using Vembar.Images.Paths;
using Vembar.Operations;
using Vembar.Store.Hashing;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Files;
using Vembar.Windows.Servicing.Languages;
using Vembar.Windows.Servicing.Packages;
using Xunit;

namespace Vembar.Tests;

public class PackageTests(DemoFixture demo)
{
    private const string Shelfmark = "Program Files/Tarn Valley/Shelfmark";

    private string Pack(string name) => demo.At($"packages/{name}.zip");

    // A package of a manifest's lines and some files, made into a zip.
    private static string Make(TempFolder folder, string name, string version, string more = "", params (string Path, string Text)[] files)
    {
        var at = $"{name}-{version}";
        folder.Write($"{at}/package.yaml", $"format: 1\nname: {name}\nversion: {version}\nkind: settings\n{more}\n");
        foreach (var (path, text) in files)
            folder.Write($"{at}/{path}", text);
        Package.Make(folder.At(at), folder.At($"{at}.zip"));
        return folder.At($"{at}.zip");
    }

    private static string Text(string archive, string path, string image = "last") =>
        Do.WithTree(archive, Number(archive, image),
        t => System.Text.Encoding.UTF8.GetString(t.ReadFile(WindowsPath.Parse(path), 1 << 20) ?? []));

    private static int Number(string archive, string image) => Do.Show(ImageReference.Parse($"{archive}#{image}")).Image.Number;

    private static PackageChange Add(params string[] paths) => new(paths);

    [Fact]
    public void TakingAPackageOutBringsBackTheVeryTree()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var root = Do.Show(ImageReference.Parse(archive)).Image.Root;
        // Given in the wrong order: what one needs comes first all the same.
        var done = Do.Service(archive, "with", Add(Pack("kiosk-tools-1.0"), Pack("shelfmark-7.4"), Pack("house-settings-1.0")));
        Assert.All(done.Changes, c => Assert.Equal(ChangeStatus.Done, c.Status));
        var shown = Do.Show(ImageReference.Parse(archive + "#with"));
        Assert.Equal(["house-settings 1.0", "kiosk-tools 1.0", "shelfmark 7.4"], shown.Packages!.Select(p => p.Title));
        Assert.Equal(["Shelfmark database"], shown.FirstStart!.Select(c => c.Name));
        Assert.Equal("7.4.0", shown.Programs!.Single(p => p.Name == "Shelfmark Lending Client").Version);
        Assert.Equal("", Text(archive, "Users/Public/Documents/Staff handbook.txt", "with"));
        Assert.All(Do.Service(archive + "#with", null, Add(Pack("kiosk-tools-1.0"), Pack("shelfmark-7.4"),
            Pack("house-settings-1.0"))).Changes, c => Assert.Equal(ChangeStatus.Already, c.Status));
        Assert.Equal(ChangeStatus.Refused,
            Do.Service(archive + "#with", null, new PackageRemoval("house-settings")).Changes.Single().Status);
        var without = Do.Service(archive + "#with", "without", new PackageRemoval("kiosk-tools"), new PackageRemoval("shelfmark"),
            new PackageRemoval("house-settings"));
        Assert.All(without.Changes, c => Assert.Equal(ChangeStatus.Done, c.Status));
        Assert.Equal(root, without.Image.Root);
        Assert.Equal(Do.Show(ImageReference.Parse(archive + "#1")).Image.Files, without.Image.Files);
        Assert.Equal(Do.Show(ImageReference.Parse(archive + "#1")).Image.Bytes, without.Image.Bytes);
        // One after the other, in runs of their own.
        Do.Service(archive + "#1", "a", Add(Pack("shelfmark-7.4")));
        var between = Do.Show(ImageReference.Parse(archive + "#a")).Image.Root;
        Do.Service(archive + "#a", "b", Add(Pack("house-settings-1.0")));
        Assert.Equal(between, Do.Service(archive + "#b", "c", new PackageRemoval("house-settings")).Image.Root);
        Assert.Equal(root, Do.Service(archive + "#c", "d", new PackageRemoval("shelfmark")).Image.Root);
        var diff = Do.Diff(ImageReference.Parse(archive + "#1"), ImageReference.Parse(archive + "#b"), default);
        Assert.Equal("house-settings 1.0, shelfmark 7.4; Lending",
            $"{string.Join(", ", diff.Packages!.Added)}; {string.Join(", ", diff.Features!.Added)}");
    }

    [Fact]
    public void AnUpdateTakesThePlaceOfAnOlderVersionAndGivesItBack()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        const string Files = "files:\n  - from: f\n    to: House\n";
        var one = Make(folder, "house", "1.0", Files, ("f/both", "one"), ("f/old", "old"));
        var two = Make(folder, "house", "2.0", Files, ("f/both", "two"), ("f/new", "new"));
        Do.Service(archive, null, Add(one));
        var root = Do.Show(ImageReference.Parse(archive)).Image.Root;
        Assert.Contains("in place of house 1.0", Do.Service(archive, null, Add(two)).Changes.Single().Why, StringComparison.Ordinal);
        Assert.Equal(("two", "", "new"), (Text(archive, "House/both"), Text(archive, "House/old"), Text(archive, "House/new")));
        Assert.Equal("house 2.0",
            Do.Show(ImageReference.Parse(archive)).Packages!.Single(p => p.Manifest.Version.Major == 1).ReplacedBy);
        Assert.Equal(ChangeStatus.Already, Do.Service(archive, "x", Add(one)).Changes.Single().Status);
        var back = Do.Service(archive + "#1", null, new PackageRemoval("house"));
        Assert.Contains("house 1.0 is back", back.Changes.Single().Why, StringComparison.Ordinal);
        Assert.Equal(root, back.Image.Root);
        Assert.Equal(["house 1.0"],
            Do.Show(ImageReference.Parse(archive + "#1")).Packages!.Where(p => p.ReplacedBy is null).Select(p => p.Title));
    }

    [Fact]
    public void FeaturesGoOnWithTheirParentsAndOffWithTheirDependents()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        Do.Service(archive, null, Add(Pack("shelfmark-7.4")));
        var root = Do.Show(ImageReference.Parse(archive)).Image.Root;
        string On() => string.Join(' ', Do.Show(ImageReference.Parse(archive)).Packages!.Single().Features.Where(f => f.IsOn)
            .Select(f => f.Feature.Name).Order(StringComparer.Ordinal));
        Assert.Equal("Lending", On());
        var on = Do.Service(archive, null, new FeatureChange("lending.labels", true, false)).Changes.Single();
        Assert.Equal((ChangeStatus.Done, "Spine labels; with Lending.Print, which it needs"), (on.Status, on.Why));
        Assert.Equal("Lending Lending.Labels Lending.Print", On());
        Assert.NotEqual("", Text(archive, $"{Shelfmark}/labels/labels.dll"));
        Assert.Equal(ChangeStatus.Already,
            Do.Service(archive, null, new FeatureChange("Lending.Labels", true, false)).Changes.Single().Status);
        var held = Do.Service(archive, null, new FeatureChange("Lending.Print", false, false)).Changes.Single();
        Assert.Equal((ChangeStatus.Refused, "Lending.Labels needs it", "with-dependents"), (held.Status, held.Why, held.Advice?.Word));
        Assert.Contains("did you mean 'Lending.Labels'?",
            Do.Service(archive, null, new FeatureChange("Lending.Label", true, false)).Changes.Single().Why, StringComparison.Ordinal);
        Do.Service(archive, null, new FeatureChange("Lending.Print", false, true));
        Assert.Equal("Lending", On());
        Assert.Equal("", Text(archive, $"{Shelfmark}/labels/labels.dll"));
        // Only the journal's order of words may differ from before; the files do not.
        Assert.Equal(3, Do.Service(archive, null, new FeatureChange("Lending*", true, false)).Changes.Count);
        Assert.NotEqual(root, Do.Show(ImageReference.Parse(archive)).Image.Root);
    }

    [Fact]
    public void WhatCannotGoInIsToldWithTheReason()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        const string Files = "files:\n  - from: f\n    to: House/f\n";
        (string Path, ChangeStatus Status, string Why)[] cases =
        [
            (Make(folder, "arm", "1", "applies-to:\n  architectures: arm64"), ChangeStatus.Skipped, "it is for arm64; the image is x64"),
            (Make(folder, "old", "1", "applies-to:\n  builds: -19045"), ChangeStatus.Skipped,
            "it is for builds to 19045; the image has 26100"),
            (Make(folder, "edition", "1", "applies-to:\n  editions: Education"), ChangeStatus.Skipped,
            "it is for the editions Education; the image is Enterprise"),
            (Make(folder, "needy", "1", "requires: nothing >= 2"), ChangeStatus.Refused,
            "it needs nothing >= 2.0, which is neither in the image nor given"),
            (Make(folder, "one", "1", Files, ("f", "one")), ChangeStatus.Done, ""),
            (Make(folder, "two", "1", Files, ("f", "two")), ChangeStatus.Refused, "'House/f' is brought by one 1.0 with other content"),
            (Make(folder, "same", "1", Files, ("f", "one")), ChangeStatus.Done, ""),
            (Make(folder, "rival", "1", "conflicts: one"), ChangeStatus.Refused, "it cannot be beside one 1.0"),
            (Make(folder, "a", "1", "requires: b"), ChangeStatus.Refused, "go in a circle: a → b → a"),
            (Make(folder, "b", "1", "requires: a"), ChangeStatus.Refused, "go in a circle"),
            (Make(folder, "needier", "1", "requires: needy"), ChangeStatus.Refused, "it needs needy, which is refused"),
            (folder.At("none.zip"), ChangeStatus.Refused, "there is no package"),
        ];
        var before = File.ReadAllBytes(archive);
        var result = Do.Service(archive, null, Add([.. cases.Select(c => c.Path)]));
        Assert.Equal(before, File.ReadAllBytes(archive));
        foreach (var (path, status, why) in cases)
        {
            var outcome = result.Changes.Single(c => c.What == path);
            Assert.Equal((Path.GetFileName(path), status), (Path.GetFileName(path),
                outcome.Status == ChangeStatus.Skipped && outcome.Why.StartsWith("held back", StringComparison.Ordinal) ? ChangeStatus.Done
                : outcome.Status));
            if (status != ChangeStatus.Done)
                Assert.Contains(why, outcome.Why, StringComparison.Ordinal);
        }
        // A file that two bring stays until the last of them goes.
        Do.Service(archive, "shared", Add(cases[4].Path, cases[6].Path));
        Do.Service(archive + "#shared", null, new PackageRemoval("one"));
        Assert.Equal("one", Text(archive, "House/f", "shared"));
        Assert.Equal(Do.Show(ImageReference.Parse(archive + "#1")).Image.Files,
            Do.Service(archive + "#shared", null, new PackageRemoval("same")).Image.Files);
        Assert.Equal("", Text(archive, "House/f", "shared"));
    }

    [Fact]
    public void AChangedPayloadIsRefused()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        Tools.Run("cp", ["-r", demo.At("packages/kiosk-tools-1.0"), folder.At("p")]);
        // A folder that was not made lists no hashes; the zip's manifest does.
        Assert.Contains("lists no hashes", Do.Service(archive, null, Add(folder.At("p"))).Changes.Single().Why, StringComparison.Ordinal);
        Tools.Run("unzip", ["-q", "-o", Pack("kiosk-tools-1.0"), "-d", folder.At("p")]);
        Assert.Empty(Package.Read(folder.At("p")).Problems());
        File.AppendAllText(folder.At("p/service/kiosk.exe"), "x");
        Assert.Equal(["'service/kiosk.exe' is not what the manifest says; it was changed"], Package.Read(folder.At("p")).Problems());
        File.Delete(folder.At("p/service/kiosk.exe"));
        Assert.Equal(["'service/kiosk.exe' is missing"], Package.Read(folder.At("p")).Problems());
        // Made twice it is the same, byte for byte.
        Package.Make(demo.At("packages/shelfmark-7.4"), folder.At("again.zip"));
        Assert.Equal(File.ReadAllBytes(Pack("shelfmark-7.4")), File.ReadAllBytes(folder.At("again.zip")));
    }

    [Theory]
    [InlineData("nam: x", "line 5: 'nam' is not known here; did you mean 'name'?")]
    [InlineData("files:\n  - from: ../x\n    to: y", "line 6: '../x' is not a path inside of the package")]
    [InlineData("files:\n  - from: x\n    to: ../y", "line 6: '../y' is not a path in an image")]
    [InlineData("files:\n  - from: x\n    to: y\n    attributes: secret", "'secret' is not an attribute")]
    [InlineData("requires: 'a > 3'", "line 5: 'a > 3' is not 'name' or 'name >= version'")]
    [InlineData("applies-to:\n  builds: many", "'many' is not a range of builds")]
    [InlineData("features:\n  - name: a\n    parent: b\n  - name: b\n    parent: a", "the parents of 'a' go in a circle")]
    [InlineData("features:\n  - name: a\n  - name: A", "is there twice")]
    [InlineData("hashes:\n  x: 12", "'x' with its hash")]
    [InlineData("services:\n  - name: a", "a service has a name, a binary")]
    [InlineData("first-start:\n  - name: a/b\n    run: x", "'a/b' is not a name for a first-start command")]
    public void MistakesInAManifestAreToldWithTheirLine(string lines, string expected)
    {
        var problem = Assert.Throws<VembarException>(
            () => PackageManifest.Parse($"format: 1\nname: x\nversion: 1\nkind: update\n{lines}\n", "x"));
        Assert.Contains(expected, string.Join('\n', problem.Details.Prepend(problem.Message)), StringComparison.Ordinal);
    }

    [Fact]
    public void ANewerFormatIsToldAsOne() =>
        Assert.Equal("newer-package", Assert.Throws<VembarException>(() => PackageManifest.Parse("format: 2\nname: x\n", "x")).Code);

    [Fact]
    public void HostileManifestsEndInAnErrorAtWorst()
    {
        string[] parts = ["name: x\n", "version: 1\n", "kind: update\n", "files:\n", "  - from: a\n", "    to: b\n", "features:\n",
            "  - name: f\n", "requires: [a, ", "]\n", "hashes:\n", "  a: b\n", "{", "}", "applies-to:\n", "  builds: 1-\n", ":", "- ",
            "&a *a\n", "remove: '**'\n"];
        Gen.Int[0, parts.Length - 1].Array[0, 25].Select(picks => string.Concat(picks.Select(i => parts[i]))).Sample(text =>
        {
            try
            {
                PackageManifest.Parse(text, "x");
            }
            catch (VembarException problem)
            {
                Assert.Equal(ErrorKind.Input, problem.Kind);
            }
        }, iter: 3000);
    }

    [Fact]
    public void NoPackageReachesTheJournals()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        const string Lines = "files:\n  - from: f\n    to: windows/vembar/Packages/x\n";
        Assert.Contains("where the journals of packages are",
            Assert.Throws<VembarException>(() => Make(folder, "bad", "1", Lines, ("f", "x"))).Message, StringComparison.Ordinal);
        // Also one that was made by hand.
        File.AppendAllText(folder.At("bad-1/package.yaml"), $"hashes:\n  f: {Blake3.Hash("x"u8)}\n");
        Assert.Contains("where the journals of packages are", Do.Service(archive, null, Add(folder.At("bad-1"))).Changes.Single().Why,
            StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("files:\n  - from: f\n    to: House/a\n  - from: g\n    to: House/a/b\n",
        "'House/a' would be a file, and the folder of 'House/a/b'")]
    [InlineData("files:\n  - from: f\n    to: House/a*\n", "'House/a*' is not a path in an image")]
    [InlineData("requires: [wrong]\n", "a package cannot need itself")]
    [InlineData("requires: ['other >= 2']\nconflicts: [other]\n", "'other' is needed and cannot be there, both")]
    [InlineData("registry: [f]\n", "is not a .reg file")]
    public void WhatServicingWouldRefuseIsNotMade(string lines, string expected)
    {
        using var folder = new TempFolder();
        var problem = Assert.Throws<VembarException>(() => Make(folder, "wrong", "1.0", lines, ("f", "x"), ("g", "y")));
        Assert.Contains(expected, string.Join('\n', problem.Details.Prepend(problem.Message)), StringComparison.Ordinal);
        Assert.Equal(["wrong-1.0"], Directory.GetFileSystemEntries(folder.Path).Select(e => Path.GetFileName(e)));
    }

    [Fact]
    public void FoldersAreAsTheyWereWhenCommandsForTheFirstStartGo()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var root = Do.Show(ImageReference.Parse(archive)).Image.Root;
        const string Command = "first-start:\n  - name: NAME\n    run: cmd /c rem\n";
        var one = Make(folder, "one", "1.0", Command.Replace("NAME", "one", StringComparison.Ordinal));
        var two = Make(folder, "two", "1.0", Command.Replace("NAME", "two", StringComparison.Ordinal));
        Do.Service(archive, null, Add(one));
        Do.Service(archive, null, Add(two));
        // In the order in which they came, and in the other.
        Assert.Equal(root, Do.Service(archive, "a", new PackageRemoval("one"), new PackageRemoval("two")).Image.Root);
        Assert.Equal(root, Do.Service($"{archive}#1", "b", new PackageRemoval("two"), new PackageRemoval("one")).Image.Root);

        // A folder that was there stays, empty as it was.
        Do.Service($"{archive}#b", null, new PutChange(one, "Windows/Setup/Scripts/x"));
        Do.Service($"{archive}#b", null, new RemoveChange("Windows/Setup/Scripts/x"));
        var empty = Do.Show(ImageReference.Parse($"{archive}#b")).Image.Root;
        Do.Service($"{archive}#b", null, Add(one));
        Assert.Equal(empty, Do.Service($"{archive}#b", null, new PackageRemoval("one")).Image.Root);
    }

    [Fact]
    public void ThePlanSaysWhichFilesOfWindowsAPackageTakesThePlaceOf()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var made = Make(folder, "deep", "1.0",
            "files:\n  - from: f\n    to: Windows/System32/ntoskrnl.exe\n  - from: g\n    to: Windows/System32/config/DEFAULT\n  - from: "
            + "g\n    to: Windows/new.dat\n", ("f", "x"), ("g", "y"));
        var why = Do.Service(archive, null, Add(made)).Changes.Single().Why;
        Assert.Contains("takes the place of HIVES, which the settings in them go with: Windows/System32/config/DEFAULT", why,
            StringComparison.Ordinal);
        Assert.Contains("takes the place of files of Windows: Windows/System32/ntoskrnl.exe", why, StringComparison.Ordinal);
        Assert.DoesNotContain("new.dat", why, StringComparison.Ordinal);
    }

    [Fact]
    public void ALanguageInUseIsNotTakenOut()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        Do.Service(archive, null, Add(Pack("polish-1.0")), new LocaleChange("pl-PL", []));
        var refused = Do.Service(archive, "x", new PackageRemoval("polish")).Changes.Single();
        Assert.Equal((ChangeStatus.Refused, "pl-PL is in use for what Windows is shown in, the system's formats, new users' formats"),
            (refused.Status, refused.Why));
        Assert.Equal(("other-locale", "en-GB"), (refused.Advice!.Word, refused.Advice.Arguments["locale"]));
        var changes = Do.Service($"{archive}#1", null, new LocaleChange("en-GB", []), new PackageRemoval("polish")).Changes;
        Assert.All(changes, c => Assert.Equal(ChangeStatus.Done, c.Status));
    }

    // Where content is cut does not depend on whether it comes out of a folder or a packed file.
    [Fact]
    public void PayloadOfAPackedFileIsStoredOnceWithThatOfAFolder()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var noise = new byte[3 << 20];
        new Random(8).NextBytes(noise);
        folder.Write("house-1.0/f/noise.bin", noise);
        var zip = Make(folder, "house", "1.0", "files:\n  - from: f\n    to: House\n");
        Tools.Run("unzip", ["-q", "-o", zip, "-d", folder.At("unpacked")]);
        Tools.Run("bsdtar", ["-a", "-cf", folder.At("house.tar.xz"), "-C", folder.At("unpacked"), "."]);
        var first = Do.Service(archive, "first", Add(folder.At("unpacked"))).BytesStored;
        Assert.True(first > noise.Length);
        Assert.InRange(Do.Service($"{archive}#1", "zip", Add(zip)).BytesStored, 1, 100_000);
        Assert.InRange(Do.Service($"{archive}#1", "tar", Add(folder.At("house.tar.xz"))).BytesStored, 1, 100_000);
    }

    [Fact]
    public void PayloadIsReadWhenItIsStoredAndNotBefore()
    {
        using var folder = new TempFolder();
        var package = Package.Read(Make(folder, "large", "1.0", "files:\n  - from: f\n    to: House\n", ("f/a", new string('a', 100_000))));
        Assert.Null(package.Folder.Content("f/a").Bytes);
        Assert.Equal(100_000, package.Folder.Content("f/a").ToBytes().Length);
    }

    [Theory]
    [InlineData("feature-set", "", PackageKind.Extension)]
    [InlineData("extension", "", PackageKind.Extension)]
    [InlineData("language", "language: pl-PL\n", PackageKind.Translation)]
    [InlineData("translation", "language: pl-PL\n", PackageKind.Translation)]
    public void PackagesWithTheFormerWordsForTheirKindGoIn(string word, string more, PackageKind kind)
    {
        using var folder = new TempFolder();
        folder.Write("p/package.yaml", $"format: 1\nname: former\nversion: 1\nkind: {word}\n{more}files:\n  - from: f\n    to: House\n");
        folder.Write("p/f/file", "x");
        Package.Make(folder.At("p"), folder.At("p.zip"));
        Assert.Equal(kind, Package.Read(folder.At("p.zip")).Manifest.Kind);
        var archive = demo.CopyArchive(folder);
        Assert.All(Do.Service(archive, null, Add(folder.At("p.zip"))).Changes, c => Assert.Equal(ChangeStatus.Done, c.Status));
        Assert.Equal("former 1.0", Do.Show(ImageReference.Parse(archive)).Packages!.Single().Title);
    }

    [Theory]
    [InlineData("kind: translation\n", "says which with 'language'")]
    [InlineData("kind: translation\nlanguage: pl-PX\n", "did you mean 'pl-PL'?")]
    [InlineData("kind: settings\nlanguage: pl-PL\n", "no other does")]
    public void ALanguagePackageSaysWhichLanguage(string lines, string expected) =>
        Assert.Contains(expected,
        Assert.Throws<VembarException>(() => PackageManifest.Parse($"name: a\nversion: 1\n{lines}", "p")).Message,
        StringComparison.Ordinal);
}
