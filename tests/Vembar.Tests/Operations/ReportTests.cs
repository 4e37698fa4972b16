using CsCheck;
using Vembar.Common;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.Report;
using Vembar.Store.Hashing;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Vembar.Windows.Install;
using Xunit;

namespace Vembar.Tests.Operations;

/// <summary>Reports: what images share, where they come from, where room goes.</summary>
public sealed class ReportTests(DemoFixture demo) : IDisposable
{
    private readonly TempFolder _folder = new();

    private static Task<ReportResult> ReportAsync(string archive, string? spaceOf = null) => new ReportHandler(OperationHost.Default)
        .HandleAsync(new ReportRequest(new ArchiveLocation(archive, []), spaceOf), NoProgress.Instance, CancellationToken.None);

    // Each image's chunks, found by going through all of its files.
    private static Dictionary<ChunkId, long> Chunks(ImageTree tree)
    {
        var chunks = new Dictionary<ChunkId, long>();
        foreach (var (path, entry) in tree.Walk(tree.Root, WindowsPath.Root))
        {
            foreach (var content in entry.Streams.Select(s => s.Content).Prepend(entry.Content).Where(c => c is { Length: > 0 }))
            {
                foreach (var part in tree.Parts(content!, path).Where(p => !p.IsHole))
                    chunks[part.Id] = part.Length;
            }
        }
        return chunks;
    }

    // A set of files, of which some are in others too, at other places.
    private static readonly Gen<(string Path, int Seed, int Length)[]> s_files = Gen.Select(
        Gen.OneOf("a", "b", "deep/in/a", "deep/b", "deep/in/here/c", "other/a"), Gen.Int[1, 5], Gen.OneOf(0, 10, 5_000, 400_000))
        .Array[0, 8];

    [Fact]
    public void WhatIsSharedIsWhatAWalkThroughAllFilesFinds() => s_files.Array[1, 5].Sample(sets =>
    {
        using var folder = new TempFolder();
        foreach (var (files, at) in sets.Select((s, at) => (s, at)))
        {
            Directory.CreateDirectory(folder.At($"{at}"));
            foreach (var (path, seed, length) in files)
            {
                var bytes = new byte[length];
                new Random(seed).NextBytes(bytes);
                Directory.CreateDirectory(Path.GetDirectoryName(folder.At($"{at}/{path}"))!);
                File.WriteAllBytes(folder.At($"{at}/{path}"), bytes);
            }
            Do.Capture(folder.At($"{at}"), folder.At("all.vmb"), $"image {at}");
        }
        using var archive = ArchiveReader.Open(folder.At("all.vmb"), LocalFileSystem.Instance);
        var trees = archive.Images.OrderBy(i => i.Number).Select(i => new ImageTree(archive, i.Root, i.Name)).ToList();
        var comparison = new ContentComparison(CancellationToken.None);
        trees.ForEach(comparison.Add);
        var sharing = comparison.Compare();
        var chunks = trees.ConvertAll(Chunks);
        for (var one = 0; one < trees.Count; one++)
        {
            for (var other = 0; other < trees.Count; other++)
                Assert.Equal(chunks[one].Where(c => chunks[other].ContainsKey(c.Key)).Sum(c => c.Value), sharing.Between(one, other));
            Assert.Equal(chunks[one].Where(c => !chunks.Where((_, i) => i != one).Any(o => o.ContainsKey(c.Key))).Sum(c => c.Value),
                sharing.Own[one]);
        }
        Assert.Equal(chunks.SelectMany(c => c).DistinctBy(c => c.Key).Sum(c => c.Value), sharing.Distinct);
        Assert.Equal(chunks.Sum(c => c.Values.Sum()), sharing.Total);
    }, iter: 12);

    // More images than bits in a word.
    [Fact]
    public async Task ManyImagesAreToldApart()
    {
        const int Many = 70;
        Directory.CreateDirectory(_folder.At("src"));
        for (var at = 0; at < Many; at++)
        {
            File.WriteAllText(_folder.At("src/own"), $"{at:000}");
            File.WriteAllText(_folder.At("src/common"), at < 66 ? "the same in most" : "the same in some");
            Do.Capture(_folder.At("src"), _folder.At("many.vmb"), $"image {at}");
        }
        var report = await ReportAsync(_folder.At("many.vmb"));
        Assert.Equal(Many, report.Images.Count);
        Assert.All(report.Sharing.Own, own => Assert.Equal(3, own));
        Assert.Equal((16, 16, 0), (report.Sharing.Between(0, 65), report.Sharing.Between(66, 69), report.Sharing.Between(0, 66)));
        Assert.Equal(2 * 16 + 3 * Many, report.Sharing.Distinct);
    }

    [Fact]
    public async Task LineageAndContentsAreTold()
    {
        var archive = demo.CopyArchive(_folder);
        Do.Service($"{archive}#1", "Serviced", demo.Add(demo.Driver("corrin-storage")));
        Do.Service($"{archive}#2", "Further", demo.Add(demo.Driver("corrin-network")));
        var report = await ReportAsync(archive);
        Assert.Equal([null, 1, 2], report.Images.Select(i => i.Parent));
        Assert.All(report.Images, i => Assert.Equal(demo.Reference("lending-desk"), i.Source));
        Assert.Equal([0, 1, 2], report.Images.Select(i => i.Contents.Drivers!.Count));
        Assert.Equal([0L, 1, 2, 3], report.States.Select(s => s.Number).Order());
        // What its parent was is not there any more; where it came from in the beginning is still known.
        Do.Drop(ImageReference.Parse($"{archive}#2"));
        report = await ReportAsync(archive);
        Assert.Equal([null, (int?)null], report.Images.Select(i => i.Parent));
        Assert.Equal(demo.Reference("lending-desk"), report.Images[1].Source);
    }

    [Fact]
    public async Task SpaceIsWhereTheBytesAre()
    {
        var report = await ReportAsync(demo.Archive);
        var space = report.Space!;
        Assert.Equal(report.Images[0].Record.Bytes, space.Root.Bytes);
        Assert.Equal(report.Images[0].Record.Files, space.Root.Files);
        void Sound(FolderSpace folder)
        {
            Assert.True(folder.Rest >= 0 && folder.Folders.All(f => f.Bytes <= folder.Bytes), folder.Name);
            Assert.Equal(folder.Folders.OrderByDescending(f => f.Bytes), folder.Folders);
            foreach (var below in folder.Folders)
                Sound(below);
        }
        Sound(space.Root);
        Assert.Contains(space.Root.Folders, f => f.Name == "Windows");
        var shelfmark = Assert.Single(space.Programs, p => p.Name.StartsWith("Shelfmark", StringComparison.Ordinal));
        Assert.Equal((true, Directory.EnumerateFiles(demo.Reference("lending-desk/Program Files/Tarn Valley/Shelfmark"), "*",
            SearchOption.AllDirectories).Sum(f => new FileInfo(f).Length)), (shelfmark.IsMeasured, shelfmark.Bytes));
        var problem = await Assert.ThrowsAsync<VembarException>(() => ReportAsync(demo.Archive, "nothing of that name"));
        Assert.Equal(ErrorKind.Input, problem.Kind);
    }

    // What an entry of the registry says is anything at all.
    [Theory]
    [InlineData(@"C:\Program Files\Tarn Valley\Shelfmark\", true)]
    [InlineData("\"c:/program files/tarn valley/shelfmark\"", true)]
    [InlineData(@"C:\", false)]
    [InlineData(@"C:\..\..\etc", false)]
    [InlineData(@"\\server\share", false)]
    [InlineData(@"%ProgramFiles%\Shelfmark", false)]
    [InlineData("C:\\a\0b", false)]
    [InlineData("", false)]
    public void TheFolderOfAProgramIsLookedForOnTheVolume(string location, bool isMeasured)
    {
        using var archive = ArchiveReader.Open(demo.Archive, LocalFileSystem.Instance);
        var tree = new ImageTree(archive, archive.Images[0].Root, "desk");
        var space = ImageSpace.Of(1, tree, [new InstalledProgram("Shelfmark", "1", "", 1024) { Location = location }],
            CancellationToken.None);
        Assert.Equal(isMeasured, Assert.Single(space.Programs).IsMeasured);
    }

    // Where the index is damaged, nothing can be found before it is recovered.
    private static bool CanBeOpened(string archive)
    {
        try
        {
            using var reader = ArchiveReader.Open(archive);
            return true;
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged)
        {
            return false;
        }
    }

    // Wherever a sector is lost: images that have it in their folders are left out, and the report is on the rest.
    [Fact]
    public async Task AnImageWithADamagedFolderIsLeftOutAndTold()
    {
        const int Sector = 512;
        var archive = _folder.At("three.vmb");
        foreach (var (tree, at) in ((string[])["one", "two", "three"]).Select((t, i) => (t, i)))
        {
            var noise = new byte[3_000];
            new Random(at).NextBytes(noise);
            Directory.CreateDirectory(_folder.At($"{tree}/in"));
            File.WriteAllBytes(_folder.At($"{tree}/in/noise"), noise);
            File.WriteAllText(_folder.At($"{tree}/text"), "in all");
            Do.Capture(_folder.At(tree), archive, tree);
        }
        var good = await ReportAsync(archive);
        var bytes = File.ReadAllBytes(archive);
        var leftOut = new HashSet<int>();
        for (var at = Sector; at < bytes.Length; at += Sector)
        {
            var damaged = bytes.ToArray();
            new Random(at).NextBytes(damaged.AsSpan(at, Math.Min(Sector, bytes.Length - at)));
            File.WriteAllBytes(archive, damaged);
            if (!CanBeOpened(archive))
                continue;
            var report = await ReportAsync(archive);
            var missing = Enumerable.Range(1, 3).Except(report.Images.Select(i => i.Record.Number)).ToList();
            leftOut.UnionWith(missing);
            Assert.All(missing, m => Assert.Contains(report.Problems,
                p => p.StartsWith($"image {m} is left out: ", StringComparison.Ordinal)));
            foreach (var (image, place) in report.Images.Select((i, place) => (i, place)))
            {
                var before = image.Record.Number - 1;
                Assert.Equal(good.Sharing.Between(before, before), report.Sharing.Between(place, place));
            }
            Assert.Equal(report.Images.Count > 0, report.Space is not null);
        }
        Assert.Equal([1, 2, 3], leftOut.Order());
    }

    // What Windows itself says of an image is told as far as it can be read.
    [Fact]
    public async Task DamageToAnInstallNeverEndsTheReport()
    {
        var archive = demo.CopyArchive(_folder);
        Do.Service($"{archive}#1", "Serviced", demo.Add(demo.Driver("corrin-storage")));
        var bytes = File.ReadAllBytes(archive);
        var random = new Random(5);
        var told = 0;
        for (var round = 0; round < 60; round++)
        {
            var damaged = bytes.ToArray();
            random.NextBytes(damaged.AsSpan(random.Next(4096, bytes.Length - 4096), 4096));
            File.WriteAllBytes(archive, damaged);
            if (!CanBeOpened(archive))
                continue;
            var report = await ReportAsync(archive);
            told += report.Problems.Count > 0 ? 1 : 0;
            Assert.True(report.Images.Count == 2 || report.Problems.Count > 0);
        }
        Assert.InRange(told, 1, 60);
    }

    public void Dispose() => _folder.Dispose();
}
