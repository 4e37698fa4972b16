using Vembar.Common;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.Service;
using Vembar.Store.Format;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Vembar.Windows.Servicing.Files;
using Xunit;

namespace Vembar.Tests;

public class ArchiveTests
{
    private static string SmallTree(TempFolder folder, string name = "src", int seed = 1)
    {
        var random = new Random(seed);
        for (var i = 0; i < 12; i++)
        {
            var bytes = new byte[random.Next(0, 9000)];
            random.NextBytes(bytes);
            folder.Write($"{name}/d{i % 3}/f{i}.bin", bytes);
        }
        folder.Write($"{name}/text.txt", string.Concat(Enumerable.Repeat("words and words ", 2000)));
        return folder.At(name);
    }

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public void TheWriterMayStopAtAnyOperation(bool torn)
    {
        using var folder = new TempFolder();
        var first = SmallTree(folder);
        var second = SmallTree(folder, "src2", 2);
        var prepared = folder.At("prepared.vmb");
        Do.Capture(first, prepared);
        (string Name, string? Start, Action<string, IFileSystem> Work)[] works =
        [
            ("first capture", null, (archive, layer) => Do.Capture(first, archive, "one", layer: layer)),
            ("second capture", prepared, (archive, layer) => Do.Capture(second, archive, "two", layer: layer)),
            ("service", prepared, (archive, layer) => Do.Service(
                new ServiceRequest
                {
                    Image = new ImageReference(archive, "1"),
                    Changes = [new RemoveChange("text.txt")],
                    InPlace = true,
                }, NoProgress.Instance, CancellationToken.None, layer)),
            ("drop", prepared, (archive, layer) => Do.Drop(new ImageReference(archive, "1"), default, layer)),
        ];
        foreach (var (name, start, work) in works)
        {
            var count = new CrashLayer(int.MaxValue, torn);
            var whole = folder.At($"{name}.whole.vmb");
            Begin(start, whole);
            work(whole, count);
            var after = State(whole);
            var before = start is null ? null : State(start);
            Assert.InRange(count.Operations, 4, 100);
            for (var stop = 0; stop < count.Operations; stop++)
            {
                var archive = folder.At($"{name}.{stop}.vmb");
                Begin(start, archive);
                Assert.ThrowsAny<PowerCutException>(() => work(archive, new CrashLayer(stop, torn)));
                if (!File.Exists(archive))
                {
                    Assert.Null(before);
                    continue;
                }
                // The state before or the state after; nothing in between, whatever stands behind it.
                var found = State(archive);
                Assert.True(found == after || found == (before ?? ""), $"{name} stopped at {stop}: {found}");
                Assert.Empty(Do.Verify(archive).Damage);
                var again = Do.Capture(second, archive, "again");
                Assert.Equal("again", again.Image.Name);
                Assert.True(Do.Verify(archive).Ok, $"{name} stopped at {stop}, then captured again");
            }
        }
    }

    private static void Begin(string? start, string archive)
    {
        if (start is not null)
            File.Copy(start, archive);
    }

    private static string State(string archive)
    {
        using var reader = ArchiveReader.Open(archive);
        return string.Join(';', reader.Images.Select(i => $"{i.Number} {i.Name} {i.Root}"));
    }

    [Fact]
    public void EveryFlippedBitIsFoundAndNothingWrongIsHandedOut()
    {
        using var folder = new TempFolder();
        var archive = folder.At("a.vmb");
        Do.Capture(SmallTree(folder), archive);
        Do.Capture(SmallTree(folder, "src2", 2), archive, "two");
        var good = File.ReadAllBytes(archive);
        var content = Contents(archive);
        var random = new Random(4);
        var damaged = folder.At("damaged.vmb");
        for (var round = 0; round < 600; round++)
        {
            var at = round < 200 ? good.Length - 1 - round * 3 : random.Next(good.Length);
            var bytes = good.ToArray();
            bytes[at] ^= (byte)(1 << random.Next(8));
            File.WriteAllBytes(damaged, bytes);
            try
            {
                var result = Do.Verify(damaged);
                Assert.False(result.Ok, $"byte {at} was flipped and nobody noticed");
            }
            catch (VembarException problem)
            {
                Assert.True(problem.Kind is ErrorKind.Damaged or ErrorKind.Input, problem.Message);
                continue;
            }
            Dictionary<string, string?> found;
            try
            {
                found = Contents(damaged);
            }
            catch (VembarException problem)
            {
                // What verifying could look into is not always sound enough to be used.
                Assert.Equal(ErrorKind.Damaged, problem.Kind);
                continue;
            }
            foreach (var (key, text) in found)
                Assert.True(text is null || text == content[key], $"byte {at} was flipped, and {key} reads wrong");
        }
    }

    [Fact]
    public void ACutFileIsSaidToBeCut()
    {
        using var folder = new TempFolder();
        var archive = folder.At("a.vmb");
        Do.Capture(SmallTree(folder), archive);
        var middle = new FileInfo(archive).Length;
        Do.Capture(SmallTree(folder, "src2", 2), archive, "two");
        var good = File.ReadAllBytes(archive);
        var before = State(archive);
        var cut = folder.At("cut.vmb");
        var random = new Random(5);
        foreach (var length in Enumerable.Range(1, 200).Select(i => good.Length - i)
            .Concat(Enumerable.Range(0, 200).Select(_ => random.Next(good.Length))))
        {
            File.WriteAllBytes(cut, good.AsSpan(0, length));
            try
            {
                var result = Do.Verify(cut);
                Assert.True(length == middle || !result.Ok);
                Assert.StartsWith(State(cut), before, StringComparison.Ordinal);
            }
            catch (VembarException problem)
            {
                Assert.True(problem.Kind is ErrorKind.Damaged or ErrorKind.Input);
                Assert.Contains("cut.vmb", problem.Message, StringComparison.Ordinal);
            }
        }
    }

    // Each file's bytes as text, or null where reading it is refused.
    private static Dictionary<string, string?> Contents(string archive)
    {
        var contents = new Dictionary<string, string?>();
        using var reader = ArchiveReader.Open(archive);
        foreach (var image in reader.Images)
        {
            try
            {
                var tree = new ImageTree(reader, image.Root, "test");
                foreach (var (path, entry) in tree.Walk(tree.Root, WindowsPath.Root).Where(e => e.Entry.Content is not null))
                {
                    try
                    {
                        contents[$"{image.Number} {path}"] = Convert.ToBase64String(tree.ReadAll(entry.Content!, path, 1 << 20));
                    }
                    catch (VembarException)
                    {
                        contents[$"{image.Number} {path}"] = null;
                    }
                }
            }
            catch (VembarException)
            {
                // The folder itself is damaged.
            }
        }
        return contents;
    }

    [Fact]
    public void VerifyNamesTheFilesThatDamageTouches()
    {
        using var folder = new TempFolder();
        var archive = folder.At("a.vmb");
        Do.Capture(SmallTree(folder), archive);
        BlockInfo block;
        using (var reader = ArchiveReader.Open(archive))
        {
            var entry = new ImageTree(reader, reader.Images[0].Root, "test").Find(WindowsPath.Parse("text.txt"))!;
            Assert.True(reader.TryFind(entry.Content!.Hash, out var place));
            block = place.Block;
        }
        var bytes = File.ReadAllBytes(archive);
        bytes[block.PayloadOffset + block.StoredLength / 2] ^= 0x10;
        File.WriteAllBytes(archive, bytes);
        var result = Do.Verify(archive);
        Assert.Contains(result.Damage, d => d is { Image: 1, Path: "text.txt" });
        var problem = Assert.Throws<VembarException>(() => Do.WithTree(archive, 1,
            t => t.ReadFile(WindowsPath.Parse("text.txt"), 1 << 20)));
        Assert.Equal(ErrorKind.Damaged, problem.Kind);
        Assert.Contains("text.txt", problem.Message, StringComparison.Ordinal);
    }

    [Fact]
    public void WritersExcludeEachOtherAndReadersDoNotWait()
    {
        using var folder = new TempFolder();
        var archive = folder.At("a.vmb");
        var source = SmallTree(folder);
        Do.Capture(source, archive);
        using (Do.Write(archive, create: false))
        {
            Assert.Equal("archive-locked", Assert.Throws<VembarException>(() => Do.Capture(source, archive, "two")).Code);
            Assert.Equal("1 one", State(archive)[..5]);
            Assert.Throws<VembarException>(() => Do.Write(archive, create: false, wait: TimeSpan.FromMilliseconds(250)));
        }
        using var reader = ArchiveReader.Open(archive);
        Do.Capture(source, archive, "two");
        Assert.Single(reader.Images);
        Assert.True(reader.Contains(reader.Images[0].Root));
    }

    [Fact]
    public async Task AWriterWaitsForAnother()
    {
        using var folder = new TempFolder();
        var archive = folder.At("a.vmb");
        var source = SmallTree(folder);
        Do.Capture(source, archive);
        var writer = Do.Write(archive, create: false);
        var waiting = Task.Run(() => Do.Capture(source, archive, "two", r => r with { Wait = TimeSpan.FromSeconds(60) }));
        await Task.Delay(300);
        Assert.False(waiting.IsCompleted);
        writer.Dispose();
        Assert.Equal(2, (await waiting).Image.Number);
    }

    [Fact]
    public async Task AWriterThatWaitsForOneThatMakesTheArchiveMakesItWhenThatGivesUp()
    {
        using var folder = new TempFolder();
        var archive = folder.At("a.vmb");
        var source = SmallTree(folder);
        var maker = Do.Write(archive, create: true);
        var layer = new LayerThatTellsOfOpening();
        var waiting = Task.Run(() => Do.Capture(source, archive, "two", r => r with { Wait = TimeSpan.FromMinutes(10) }, layer));
        await layer.Opened.Task;
        Assert.False(waiting.IsCompleted);
        maker.Dispose();
        var made = await waiting;
        Assert.Equal((1, "two"), (made.Image.Number, made.Image.Name));
        Assert.True(Do.Verify(archive).Ok);
    }

    [Fact]
    public void WaitingEndsWhenItIsToldTo()
    {
        using var folder = new TempFolder();
        var archive = folder.At("a.vmb");
        Do.Capture(SmallTree(folder), archive);
        using var writer = Do.Write(archive, create: false);
        using var stop = new CancellationTokenSource();
        var layer = new LayerThatTellsOfOpening();
        _ = layer.Opened.Task.ContinueWith(_ => stop.Cancel(), TaskScheduler.Default);
        Assert.ThrowsAny<OperationCanceledException>(() => Do.Drop(ImageReference.Parse($"{archive}#1"), TimeSpan.FromDays(1),
            layer, stop.Token));
    }

    private sealed class LayerThatTellsOfOpening : IFileSystem
    {
        public TaskCompletionSource Opened { get; } = new();

        public IByteSource OpenRead(string path) => LocalFileSystem.Instance.OpenRead(path);

        public IArchiveFile OpenWrite(string path)
        {
            var file = LocalFileSystem.Instance.OpenWrite(path);
            Opened.TrySetResult();
            return file;
        }

        public IArchiveFile CreateNew(string path) => LocalFileSystem.Instance.CreateNew(path);

        public void Rename(string from, string to, bool replace) => LocalFileSystem.Instance.Rename(from, to, replace);

        public void Delete(string path) => LocalFileSystem.Instance.Delete(path);
    }

    [Fact]
    public void ManyStatesStayReadableThroughMergedIndexes()
    {
        using var folder = new TempFolder();
        var archive = folder.At("a.vmb");
        var source = SmallTree(folder);
        for (var i = 0; i < 30; i++)
        {
            folder.Write("src/changing.txt", $"state {i}");
            Do.Capture(source, archive, $"image {i}");
        }
        using (var reader = ArchiveReader.Open(archive))
        {
            Assert.Equal(30, reader.Images.Count);
            Assert.Equal(30, reader.Sequence);
            for (var i = 0; i < 30; i++)
                Assert.Equal($"state {i}",
                    System.Text.Encoding.UTF8.GetString(new ImageTree(reader, reader.Images[i].Root,
                    "t").ReadFile(WindowsPath.Parse("changing.txt"), 100)!));
        }
        Assert.True(Do.Verify(archive).Ok);
    }

    [Fact]
    public void NumbersAreNeverGivenAgain()
    {
        using var folder = new TempFolder();
        var archive = folder.At("a.vmb");
        var source = SmallTree(folder);
        Do.Capture(source, archive);
        Do.Capture(source, archive, "two");
        Assert.Equal(1, Do.Drop(new ImageReference(archive, "2"), default).Left);
        Assert.Equal(3, Do.Capture(source, archive, "two").Image.Number);
    }

    [Fact]
    public void ImagesAreFoundByNumberNameAndLast()
    {
        using var folder = new TempFolder();
        var archive = folder.At("a#b.vmb");
        var source = SmallTree(folder);
        Do.Capture(source, archive, "Lending desk");
        using (var one = ArchiveReader.Open(archive))
            Assert.Equal(1, one.Find(null).Number);
        Do.Capture(source, archive, "Reading room");
        using var reader = ArchiveReader.Open(archive);
        Assert.Equal(2, reader.Find("reading ROOM").Number);
        Assert.Equal(2, reader.Find("last").Number);
        Assert.Equal("which-image", Assert.Throws<VembarException>(() => reader.Find(null)).Code);
        var wrong = Assert.Throws<VembarException>(() => reader.Find("Readng room"));
        Assert.Contains("Reading room", wrong.Hint, StringComparison.Ordinal);
        Assert.Contains("1: Lending desk", wrong.Details);
        Assert.Equal(new ImageReference(archive, "Lending desk"), ImageReference.Parse(archive + "#Lending desk"));
        Assert.Equal(new ImageReference(archive, null), ImageReference.Parse(archive));
        Assert.Equal(new ImageReference("none.vmb", "2"), ImageReference.Parse("none.vmb#2"));
    }

    [Fact]
    public void CopiedImagesAreTheSameAndWholeBlocksGoAsTheyAre()
    {
        using var folder = new TempFolder();
        var archive = folder.At("a.vmb");
        Do.Capture(SmallTree(folder), archive);
        Do.Capture(SmallTree(folder, "src2", 2), archive, "two");
        var other = folder.At("b.vmb");
        var result = Do.Copy(new ImageReference(archive, "2"), other, null, default, NoProgress.Instance, CancellationToken.None);
        Assert.True(result.WholeBlocks > 0);
        Assert.Equal(1, result.Image.Number);
        using (var from = ArchiveReader.Open(archive))
            Assert.Equal(from.Find("two").Root, result.Image.Root);
        Assert.True(Do.Verify(other).Ok);
        Do.Deploy(other, folder.At("out"));
        Assert.Equal(Do.Listing(folder.At("src2")), Do.Listing(folder.At("out")));
        var next = Do.Copy(new ImageReference(archive, "2"), other, null, default, NoProgress.Instance, CancellationToken.None);
        Assert.NotEqual("", next.Image.Version);
        Assert.Contains(next.Image.Version, next.Notes[0], StringComparison.Ordinal);
        var again = Do.Copy(new ImageReference(archive, "2"), other, "twice", default, NoProgress.Instance,
            CancellationToken.None);
        Assert.Equal(0, again.Stats.BytesNew);
    }
}
