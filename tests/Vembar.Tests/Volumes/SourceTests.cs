using Vembar.Common;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.Capture;
using Vembar.Store.Reading;
using Vembar.Volumes.Sources;
using Vembar.Windows.Install;
using Vembar.Windows.Registry;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Files;
using Vembar.Windows.Servicing.Orders;
using Xunit;

namespace Vembar.Tests;

public class SourceTests(DemoFixture demo)
{
    // Does something to the source at a moment of the capture that a progress report names.
    private sealed class At(string phase, Action work) : IProgress<OperationProgress>
    {
        private bool _done;

        public void Report(OperationProgress value)
        {
            if (_done || value.Phase != phase)
                return;
            _done = true;
            work();
        }
    }

    private static string ManyFiles(TempFolder folder)
    {
        for (var i = 0; i < 600; i++)
            folder.Write($"src/d{i % 4}/f{i}", $"{i}");
        return folder.At("src");
    }

    [Fact]
    public void AFileThatGoesAwayWhileTheFolderIsReadIsToldAndLeftOut()
    {
        using var folder = new TempFolder();
        var source = ManyFiles(folder);
        var request = new CaptureRequest { Source = source, Archive = folder.At("a.vmb"), Name = "one" };
        // The walk reports for the first time before it is through; what goes away then is missed by it or by the reading.
        var result = Do.Capture(request, new At("looking", () => File.Delete(folder.At("src/d3/f599"))), CancellationToken.None);
        Assert.Equal(599, result.Image.Files);
        Assert.Equal(599,
            Do.WithTree(folder.At("a.vmb"), 1, t => t.Walk(t.Root, WindowsPath.Root).Count(e => e.Entry.Kind == EntryKind.File)));
        Assert.True(Do.Verify(folder.At("a.vmb")).Ok);
    }

    [Fact]
    public void AFileThatGrowsBetweenLookingAndReadingIsWhole()
    {
        using var folder = new TempFolder();
        var source = ManyFiles(folder);
        var grown = new string('g', 3_000_000);
        var request = new CaptureRequest { Source = source, Archive = folder.At("a.vmb"), Name = "one" };
        Do.Capture(request, new At("looking", () => File.WriteAllText(folder.At("src/d3/f599"), grown)), CancellationToken.None);
        Assert.Equal(grown,
            System.Text.Encoding.UTF8.GetString(Do.WithTree(folder.At("a.vmb"), 1,
            t => t.ReadFile(WindowsPath.Parse("d3/f599"), 1 << 24))!));
    }

    [Fact]
    public void PipesAndSocketsAreLeftOutAndTold()
    {
        using var folder = new TempFolder();
        folder.Write("src/file", "x");
        Tools.Run("mkfifo", [folder.At("src/pipe")]);
        var result = Do.Capture(folder.At("src"), folder.At("a.vmb"));
        Assert.Equal(1, result.Image.Files);
        Assert.Equal(new ExcludedEntry("pipe", "a pipe, socket or device"), result.Excluded.Single());
    }

    [Fact]
    public void TheBuiltInRulesLeaveOutWhatTheyShouldAndNoMore()
    {
        var rules = new Exclusions([], keepAll: false);
        string? Rule(string path) => rules.RuleFor(WindowsPath.Parse(path).Parts);
        foreach (var path in (string[])["pagefile.sys", "HIBERFIL.SYS", "$Recycle.Bin/S-1-5-18/x", "System Volume Information/x",
            "Windows/Temp/a/b", "users/anna/appdata/local/temp/x", "Windows/Prefetch/X.pf", "$MFT", "$Extend/$Quota"])
            Assert.NotNull(Rule(path));
        foreach (var path in (string[])["sub/pagefile.sys", "$Recycle.Bin", "Windows/Temp", "Windows/Temperature/x", "Users/Temp/x",
            "Windows/Prefetch/ReadyBoot", "Windows/System32/$MFT", "Users/x/AppData/Local/Temporary/y"])
            Assert.Null(Rule(path));
        var own = new Exclusions(["a/*.tmp", "never"], keepAll: true);
        Assert.Equal("a/*.tmp", own.RuleFor(["a", "x.TMP"]));
        Assert.Null(own.RuleFor(["pagefile.sys"]));
        Assert.Equal(["never"], own.Unused);
    }

    [Theory]
    [InlineData("reading room", "Reading Room", 0)]
    [InlineData("kitten", "sitting", 3)]
    [InlineData("", "abc", 3)]
    [InlineData("capture", "captur", 1)]
    public void LikenessCountsLetters(string a, string b, int distance)
    {
        Assert.Equal(distance, EditDistance.Distance(a, b));
        Assert.Equal(distance, EditDistance.Distance(b, a));
    }

    [Theory]
    [InlineData("IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE", "generalized")]
    [InlineData("IMAGE_STATE_GENERALIZE_RESEAL_TO_AUDIT", "generalized-audit")]
    [InlineData("IMAGE_STATE_SPECIALIZE_RESEAL_TO_OOBE", "specialized")]
    [InlineData("IMAGE_STATE_COMPLETE", "in-use")]
    [InlineData("IMAGE_STATE_UNDEPLOYABLE", "unfinished")]
    [InlineData("something else", "unknown")]
    public void TheStateOfAnInstallFollowsItsHive(string word, string state)
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        byte[] changed;
        using (var reader = ArchiveReader.Open(archive))
        {
            var hive = WindowsInstall.OpenHive(new ImageTree(reader, reader.Images[0].Root, "t"), "Windows", "SOFTWARE", write: true);
            hive.Key(@"Microsoft\Windows\CurrentVersion\Setup\State")!.SetString("ImageState", word);
            hive.Key(@"Microsoft\Windows NT\CurrentVersion")!.SetDword("UBR", 9999);
            changed = hive.ToBytes();
        }
        // Putting a hive in place changes what the record says of the install.
        var result = Do.Service(archive, null, new PutChange(folder.Write("SOFTWARE", changed), "Windows/System32/config/"));
        Assert.Equal((state, "26100.9999"), (result.Image.State, result.Image.Build));
        var deployed = Do.Deploy(archive, folder.At("out"), r => r with { ComputerName = "TVL-1", Verify = false });
        Assert.Equal(!state.StartsWith("generalized", StringComparison.Ordinal),
            deployed.Warnings.Any(w => w.Contains("not generalized", StringComparison.Ordinal)));
    }

    [Fact]
    public void DriversGoIntoBothHivesWhereThereAreTwo()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var hive = RegistryHive.Open(RegistryHive.NewEmpty("DRIVERS"), write: true, "DRIVERS");
        hive.Root.Ensure(@"DriverDatabase\DriverPackages");
        var drivers = hive.ToBytes();
        Do.Service(archive, null, new PutChange(folder.Write("DRIVERS", drivers), "Windows/System32/config/"));
        var result = Do.Service(archive, null, demo.Add(demo.Driver("brightwell-audio")));
        Assert.Equal(ChangeStatus.Done, result.Changes.Single().Status);
        Do.Take(ImageReference.Parse(archive), ["Windows/System32/config/SYSTEM", "Windows/System32/config/DRIVERS"],
            folder.At("hives"), NoProgress.Instance, CancellationToken.None);
        foreach (var name in (string[])["SYSTEM", "DRIVERS"])
        {
            var seen = Tools.Run("reglookup", [folder.At($"hives/{name}")]);
            Assert.Contains("/DriverDatabase/DriverInfFiles/oem0.inf/Active,SZ,bwaudio.inf_amd64_", seen, StringComparison.Ordinal);
            Assert.Contains("/DriverDatabase/DeviceIds/HDAUDIO/FUNC_01&VEN_F1B2&DEV_0012/oem0.inf", seen, StringComparison.Ordinal);
            Tools.Run("regfexport", [folder.At($"hives/{name}")]);
        }
        var again = Do.Service(archive, null, demo.Add(demo.Driver("brightwell-audio")));
        Assert.Equal(ChangeStatus.Already, again.Changes.Single().Status);
    }

    [Fact]
    public void AnImageWithoutADriverDatabaseRefusesDrivers()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        byte[] changed;
        using (var reader = ArchiveReader.Open(archive))
        {
            var hive = WindowsInstall.OpenHive(new ImageTree(reader, reader.Images[0].Root, "t"), "Windows", "SYSTEM", write: true);
            hive.Key("DriverDatabase")!.Delete();
            changed = hive.ToBytes();
        }
        Do.Service(archive, null, new PutChange(folder.Write("SYSTEM", changed), "Windows/System32/config/"));
        var result = Do.Service(archive, null, demo.Add(demo.Driver("pell-barcode")));
        Assert.Equal("the image's SYSTEM hive has no driver database", result.Changes.Single().Why);
        // A hive that is none would leave an install that nobody can read: it does not get in.
        var before = File.ReadAllBytes(archive);
        Assert.Equal("bad-hive",
            Assert.Throws<VembarException>(() => Do.Service(archive, null,
            new PutChange(folder.Write("SYSTEM", "not a hive at all"), "Windows/System32/config/"))).Code);
        Assert.Equal(before, File.ReadAllBytes(archive));
    }

    [Fact]
    public void NamesThatLinuxCannotHoldAreToldBeforeAnythingIsWritten()
    {
        using var folder = new TempFolder();
        folder.Write("src/x", "x");
        Do.Capture(folder.At("src"), folder.At("a.vmb"));
        // 200 signs are fine on NTFS; as bytes they are 600, and Linux takes 255.
        Do.Service(folder.At("a.vmb"), null, new PutChange(folder.Write("file", "y"), $"deep/{new string('中', 200)}"));
        var problem = Assert.Throws<VembarException>(() => Do.Deploy(folder.At("a.vmb"), folder.At("out")));
        Assert.Equal("name-not-possible", problem.Code);
        Assert.False(Directory.Exists(folder.At("out")));
    }

    [Fact]
    public void HardLinksBesideKeptFilesGetTheImagesContent()
    {
        using var folder = new TempFolder();
        folder.Write("src/first", "from the image");
        Tools.Run("ln", ["src/first", "src/second"], folder.Path);
        Tools.Run("ln", ["src/first", "src/third"], folder.Path);
        Do.Capture(folder.At("src"), folder.At("a.vmb"));
        folder.Write("out/first", "mine");
        var result = Do.Deploy(folder.At("a.vmb"), folder.At("out"), r => r with { KeepExisting = true });
        Assert.Equal(["first"], result.Kept);
        Assert.Equal(("mine", "from the image", "from the image"),
            (File.ReadAllText(folder.At("out/first")), File.ReadAllText(folder.At("out/second")),
            File.ReadAllText(folder.At("out/third"))));
    }

    [Fact]
    public void CopyingTakesOnlyWhatTheOtherArchiveLacks()
    {
        using var folder = new TempFolder();
        var random = new Random(8);
        for (var i = 0; i < 30; i++)
        {
            var bytes = new byte[30_000];
            random.NextBytes(bytes);
            folder.Write($"all/{i}", bytes);
            if (i % 2 == 0)
                folder.Write($"half/{i}", bytes);
        }
        Do.Capture(folder.At("all"), folder.At("all.vmb"));
        Do.Capture(folder.At("half"), folder.At("half.vmb"));
        var result = Do.Copy(new ImageReference(folder.At("all.vmb"), null), folder.At("half.vmb"), "all", default,
            NoProgress.Instance, CancellationToken.None);
        Assert.InRange(result.Stats.BytesNew, 15 * 30_000, (15 * 30_000) + 5_000);
        Do.Deploy(folder.At("half.vmb") + "#all", folder.At("out"));
        Assert.Equal(Do.Listing(folder.At("all")), Do.Listing(folder.At("out")));
        Assert.True(Do.Verify(folder.At("half.vmb")).Ok);
    }

    [Fact]
    public async Task ReadersSeeWholeStatesWhileOthersWrite()
    {
        using var folder = new TempFolder();
        var archive = folder.At("a.vmb");
        folder.Write("src/x", "0");
        Do.Capture(folder.At("src"), archive, "image 0");
        using var stop = new CancellationTokenSource();
        var reading = Task.Run(() =>
        {
            var most = 0;
            while (!stop.IsCancellationRequested)
            {
                using var reader = ArchiveReader.Open(archive);
                Assert.True(reader.Images.Count >= most);
                most = reader.Images.Count;
                var last = reader.Images[^1];
                var text = System.Text.Encoding.UTF8.GetString(new ImageTree(reader, last.Root, "t").ReadFile(WindowsPath.Parse("x"),
                    100)!);
                Assert.Equal($"image {text}", last.Name);
            }
            return most;
        });
        for (var i = 1; i < 25; i++)
        {
            folder.Write("src/x", $"{i}");
            Do.Capture(folder.At("src"), archive, $"image {i}", r => r with { Reread = true });
        }
        await stop.CancelAsync();
        Assert.InRange(await reading, 2, 25);
    }

    [Fact]
    public void ALargerWorldHasMoreOfTheSame()
    {
        using var folder = new TempFolder();
        var (files, bytes) = Demo.DemoWorld.Make(folder.Path, 2, CancellationToken.None);
        Assert.InRange(files, 5_000, 8_000);
        Assert.InRange(bytes, 150L << 20, 300L << 20);
        using var source = FolderSource.Open(folder.At("references/lending-desk"));
        Assert.Equal("generalized", WindowsInstall.Read(source)!.State);
        Assert.Throws<ArgumentOutOfRangeException>(() => Demo.DemoWorld.Make(folder.At("none"), 0, CancellationToken.None));
    }

    [Fact]
    public void AWorkOrderIsReadWithPathsRelativeToItself()
    {
        var order = WorkOrder.Read(demo.At("orders/lending-desk.yaml"));
        Assert.Equal("Lending desk, monthly", order.Title);
        // Drivers under the same conditions are one change.
        Assert.Equal(3, order.Changes.Count);
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var result = Do.Service(archive, "by order", [.. order.Changes]);
        Assert.Equal(["driver", "driver", "driver", "answers", "put"], result.Changes.Select(c => c.Kind));
        Assert.All(result.Changes, c => Assert.Equal(ChangeStatus.Done, c.Status));
        Assert.Equal(5, result.Image.History[^1].Details.Count);
    }
}
