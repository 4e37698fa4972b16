using CsCheck;
using Vembar.Common;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Native;
using Vembar.Operations;
using Vembar.Operations.Diff;
using Vembar.Operations.History;
using Vembar.Store.Compression;
using Vembar.Store.Reading;
using Vembar.Windows.Servicing.Files;
using Xunit;

namespace Vembar.Tests;

public class StateTests(DemoFixture demo)
{
    private static string[] Names(string archive)
    {
        using var reader = ArchiveReader.Open(archive);
        return [.. reader.Images.Select(i => $"{i.Number} {i.Name}")];
    }

    private static string Sources(TempFolder folder)
    {
        var random = new Random(9);
        foreach (var name in (string[])["a", "b", "c"])
        {
            for (var i = 0; i < 20; i++)
            {
                var bytes = new byte[20_000];
                random.NextBytes(bytes);
                folder.Write($"{name}/{i}.bin", bytes);
            }
        }
        var archive = folder.At("x.vmb");
        foreach (var name in (string[])["a", "b", "c"])
            Do.Capture(folder.At(name), archive, name);
        return archive;
    }

    [Fact]
    public void StatesAreListedAndGoneBackTo()
    {
        using var folder = new TempFolder();
        var archive = Sources(folder);
        Do.Drop(new ImageReference(archive, "b"), default);
        var states = Do.History(archive);
        Assert.Equal(["new", "capture 1 a", "capture 2 b", "capture 3 c", "drop 2 b"], states.Select(s => s.Change));
        Assert.Equal(new FileInfo(archive).Length, states[^1].End);
        var back = Do.Rewind(archive, 3, default);
        Assert.Equal(["a", "b", "c"], back.Images.Select(i => i.Name));
        Assert.Equal(["1 a", "2 b", "3 c"], Names(archive));
        Do.Rewind(archive, 1, default);
        Assert.Equal(["1 a"], Names(archive));
        // A number is never given again, also when its image is gone from the present state.
        Assert.Equal(4, Do.Capture(folder.At("b"), archive, "new b").Image.Number);
        Do.Rewind(archive, 4, default);
        Assert.Equal(["1 a", "3 c"], Names(archive));
        Assert.Equal("no-such-state", Assert.Throws<VembarException>(() => Do.Rewind(archive, 99, default)).Code);
        Assert.True(Do.Verify(archive).Ok);
    }

    [Fact]
    public void RetitlingChangesTheRecordAlone()
    {
        using var folder = new TempFolder();
        var archive = Sources(folder);
        var before = Describe(archive, 2);
        Do.Retitle(new RetitleRequest
        {
            Image = new ImageReference(archive, "2"),
            Name = "B",
            Version = "9",
            Note = "n",
            Labels = new Dictionary<string, string> { ["k"] = "v" },
        });
        var after = Describe(archive, 2);
        Assert.Equal(("B", "9", "n", "v"), (after.Name, after.Version, after.Note, after.Labels["k"]));
        Assert.Equal((before.Root, before.BytesAdded, before.Created, before.Files),
            (after.Root, after.BytesAdded, after.Created, after.Files));
        Do.Retitle(new RetitleRequest
        {
            Image = new ImageReference(archive, "2"),
            Labels = new Dictionary<string, string> { ["k"] = "" },
        });
        Assert.Empty(Describe(archive, 2).Labels);
        Assert.Equal("name-taken", Assert.Throws<VembarException>(() => Do.Retitle(new RetitleRequest
        {
            Image = new ImageReference(archive, "2"),
            Name = "C",
            Version = "",
        })).Code);
        Assert.Equal("nothing-to-do", Assert.Throws<VembarException>(() => Do.Retitle(new RetitleRequest
        {
            Image = new ImageReference(archive, "2"),
        })).Code);
    }

    private static ImageRecord Describe(string archive, int number)
    {
        using var reader = ArchiveReader.Open(archive);
        return reader.Find($"{number}");
    }

    [Fact]
    public void CompactingDropsWhatNobodyNeedsAndKeepsTheRest()
    {
        using var folder = new TempFolder();
        var archive = Sources(folder);
        var roots = (Describe(archive, 1).Root, Describe(archive, 3).Root);
        Do.Drop(new ImageReference(archive, "2"), default);
        Tools.Run("chmod", ["640", archive]);
        using var reading = ArchiveReader.Open(archive);
        var result = Do.Compact(archive, null, default, NoProgress.Instance, CancellationToken.None);
        Assert.InRange(result.After, result.Before / 2, result.Before * 3 / 4);
        Assert.Equal("640\n", Tools.Run("stat", ["-c", "%a", archive]));
        Assert.Equal(["1 a", "3 c"], Names(archive));
        Assert.Equal(roots, (Describe(archive, 1).Root, Describe(archive, 3).Root));
        Assert.True(Do.Verify(archive).Ok);
        // A reader that was open all the while still sees what it opened.
        Assert.Equal(3, new ImageTree(reading, reading.Images[0].Root, "t").ReadFile(WindowsPath.Parse("3.bin"), 100_000)!.Length / 6666);
        Assert.Equal(4, Do.Capture(folder.At("b"), archive, "b").Image.Number);
        Do.Compact(archive, Effort.Dense, default, NoProgress.Instance, CancellationToken.None);
        Do.Deploy(archive + "#c", folder.At("out"));
        Assert.Equal(Do.Listing(folder.At("c")), Do.Listing(folder.At("out")));
        Assert.Equal(["a", "b", "c", "out", "x.vmb"],
            Directory.EnumerateFileSystemEntries(folder.Path).Select(Path.GetFileName).Order(StringComparer.Ordinal));
    }

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public void CompactingMayStopAtAnyOperation(bool torn)
    {
        using var folder = new TempFolder();
        var archive = Sources(folder);
        Do.Drop(new ImageReference(archive, "2"), default);
        var good = File.ReadAllBytes(archive);
        var count = new CrashLayer(int.MaxValue, torn);
        Do.Compact(archive, null, default, NoProgress.Instance, CancellationToken.None, count);
        for (var stop = 0; stop < count.Operations; stop++)
        {
            File.WriteAllBytes(archive, good);
            Assert.ThrowsAny<PowerCutException>(() => Do.Compact(archive, null, default, NoProgress.Instance,
                CancellationToken.None, new CrashLayer(stop, torn)));
            Assert.Equal(["1 a", "3 c"], Names(archive));
            Assert.True(Do.Verify(archive).Ok);
            // What the stopped run left beside the archive goes with the next one.
            Do.Compact(archive, null, default, NoProgress.Instance, CancellationToken.None);
            Assert.Empty(Directory.EnumerateFiles(folder.Path, ".*"));
            Assert.True(Do.Verify(archive).Ok);
        }
    }

    [Fact]
    public void AnInterruptedCompactingLeavesTheArchive()
    {
        using var folder = new TempFolder();
        var archive = Sources(folder);
        var before = File.ReadAllBytes(archive);
        using var stop = new CancellationTokenSource();
        stop.Cancel();
        Assert.ThrowsAny<OperationCanceledException>(() => Do.Compact(archive, Effort.Quick, default, NoProgress.Instance,
            stop.Token));
        Assert.Equal(before, File.ReadAllBytes(archive));
        Assert.Empty(Directory.EnumerateFiles(folder.Path, ".*"));
    }

    [Fact]
    public void UnchangedFilesAreTakenOverWithoutBeingRead()
    {
        using var folder = new TempFolder();
        for (var i = 0; i < 30; i++)
            folder.Write($"src/d{i % 3}/{i}", new string('x', 1000 + i));
        // Older than the guard against a file system's lagging clock.
        Thread.Sleep(2200);
        var archive = folder.At("a.vmb");
        var first = Do.Capture(folder.At("src"), archive);
        Assert.Equal(30, first.Stats.FilesRead);
        Thread.Sleep(1100);
        folder.Write("src/d1/1", new string('y', 1001));
        folder.Write("src/d1/new", "new");
        // The same length and time as before, but other content: only the change time tells.
        var time = File.GetLastWriteTimeUtc(folder.At("src/d2/2"));
        folder.Write("src/d2/2", new string('z', 1002));
        File.SetLastWriteTimeUtc(folder.At("src/d2/2"), time);
        var second = Do.Capture(folder.At("src"), archive, "two");
        Assert.Equal(3, second.Stats.FilesRead);
        Do.Deploy(archive + "#two", folder.At("out"));
        Assert.Equal(Do.Listing(folder.At("src")), Do.Listing(folder.At("out")));
        var all = Do.Capture(folder.At("src"), archive, "three", r => r with { Reread = true });
        Assert.Equal(31, all.Stats.FilesRead);
        Assert.Equal(second.Image.Root, all.Image.Root);
        // Another folder at the same path is another source.
        Directory.Move(folder.At("src"), folder.At("old"));
        Tools.Run("cp", ["-a", "old", "src"], folder.Path);
        Assert.Equal(31, Do.Capture(folder.At("src"), archive, "four").Stats.FilesRead);
    }

    // Whatever happens to a folder: what is taken over from the image before makes the same image as reading everything.
    [Fact]
    public void TakingOverGivesTheImageThatReadingGives()
    {
        using var folder = new TempFolder();
        var random = new Random(17);
        string[] folders = ["", "a", "a/b", "a/b/c", "d", "d/ä", "d/ä/\U0001F5A5", "empty"];
        foreach (var inner in folders)
        {
            Directory.CreateDirectory(folder.At($"src/{inner}"));
            for (var i = 0; i < 8 && inner != "empty"; i++)
                folder.Write($"src/{inner}/{i}{(i % 3 == 0 ? "\uFF21" : i % 3 == 1 ? "\U00010330" : "x")}", new string('x', 10 + i));
        }
        File.CreateSymbolicLink(folder.At("src/a/link"), "../d");
        Posix.TryHardLink(null, PosixName.Encode(folder.At("src/d/2x")), null, PosixName.Encode(folder.At("src/a/b/second-name")));
        Thread.Sleep(2200);
        var archive = folder.At("a.vmb");
        Do.Capture(folder.At("src"), archive, "round 0", r => r with { LeaveOut = ["d/out"] });
        Thread.Sleep(2200);
        var few = 0;
        for (var round = 1; round <= 24; round++)
        {
            for (var edits = random.Next(3); edits > 0; edits--)
                Edit();
            var next = Do.Capture(folder.At("src"), archive, $"round {round}", r => r with { LeaveOut = ["d/out"] });
            var alone = Do.Capture(folder.At("src"), folder.At($"alone-{round}.vmb"), "alone", r => r with { LeaveOut = ["d/out"] });
            Assert.Equal(alone.Image.Root, next.Image.Root);
            Assert.Equal((alone.Image.Files, alone.Image.Folders, alone.Image.Bytes),
                (next.Image.Files, next.Image.Folders, next.Image.Bytes));
            Assert.Equal(alone.Excluded, next.Excluded);
            few += next.Stats.FilesRead * 2 < alone.Stats.FilesRead ? 1 : 0;
            var reread = Do.Capture(folder.At("src"), archive, $"round {round} once more", r => r with
            {
                LeaveOut = ["d/out"],
                Reread = true,
            });
            Assert.Equal(alone.Image.Root, reread.Image.Root);
            Assert.Equal((alone.Stats.FilesRead, alone.Stats.BytesRead), (reread.Stats.FilesRead, reread.Stats.BytesRead));
        }
        Assert.True(few > 12, $"only {few} captures took over most files");
        Assert.True(Do.Verify(archive).Ok);

        void Edit()
        {
            var inside = folder.At("src/" + folders[random.Next(folders.Length)]);
            if (!Directory.Exists(inside))
                return;
            var files = new DirectoryInfo(inside).GetFiles().Where(f => f.LinkTarget is null).ToList();
            var file = files.Count > 0 ? files[random.Next(files.Count)].FullName : Path.Combine(inside, "first");
            switch (random.Next(12))
            {
                case 0:
                    File.AppendAllText(file, "more");
                    break;
                case 1:
                    var time = File.Exists(file) ? File.GetLastWriteTimeUtc(file) : DateTime.UtcNow;
                    File.WriteAllText(file, new string('y', File.Exists(file) ? (int)new FileInfo(file).Length : 3));
                    File.SetLastWriteTimeUtc(file, time);
                    break;
                case 2:
                    File.Delete(file);
                    break;
                case 3:
                    Tools.Run("chmod", [random.Next(2) == 0 ? "700" : "750", random.Next(2) == 0 && File.Exists(file) ? file : inside]);
                    break;
                case 4:
                    Tools.Run("setfattr",
                        ["-n", "user.mark", "-v", $"{random.Next(9)}", random.Next(2) == 0 && File.Exists(file) ? file : inside]);
                    break;
                case 5:
                    File.Move(file, file + "-moved");
                    break;
                case 6:
                    Directory.CreateDirectory(Path.Combine(inside, $"new{random.Next(3)}"));
                    break;
                case 7:
                    File.WriteAllText(Path.Combine(inside, $"added{random.Next(5)}"), "added");
                    break;
                case 8:
                    File.Delete(file);
                    File.CreateSymbolicLink(file, "elsewhere");
                    break;
                case 9:
                    Posix.TryHardLink(null, PosixName.Encode(file), null, PosixName.Encode(folder.At($"src/d/linked{random.Next(3)}")));
                    break;
                case 10:
                    if (Directory.Exists(folder.At("src/a/b")) && !Directory.Exists(folder.At("src/d/b")))
                        Directory.Move(folder.At("src/a/b"), folder.At("src/d/b"));
                    break;
                case 11:
                    File.WriteAllText(folder.At("src/d/out"), "left out");
                    break;
            }
        }
    }

    [Fact]
    public void ADamagedEarlierImageIsNotTakenOver()
    {
        using var folder = new TempFolder();
        for (var i = 0; i < 40; i++)
            folder.Write($"src/d{i % 4}/{i}", $"content {i}");
        Thread.Sleep(2200);
        var archive = folder.At("a.vmb");
        Do.Capture(folder.At("src"), archive);
        var good = File.ReadAllBytes(archive);
        var random = new Random(5);
        for (var round = 0; round < 40; round++)
        {
            var bytes = good.ToArray();
            bytes[random.Next(good.Length)] ^= (byte)(1 << random.Next(8));
            File.WriteAllBytes(archive, bytes);
            try
            {
                var again = Do.Capture(folder.At("src"), archive, "again");
                Assert.Equal(40, again.Image.Files);
            }
            catch (VembarException problem)
            {
                Assert.Equal(ErrorKind.Damaged, problem.Kind);
            }
        }
    }

    [Fact]
    public void ReadingAgainFindsWhatNoTimeTells()
    {
        using var folder = new TempFolder();
        var random = new Random(7);
        var large = new byte[9 << 20];
        random.NextBytes(large);
        File.WriteAllBytes(folder.Write("src/large", ""), large);
        File.WriteAllBytes(folder.Write("src/same", ""), large[..5_000_000]);
        folder.Write("src/small", "small");
        using (var sparse = File.Create(folder.Write("src/sparse", "")))
        {
            sparse.SetLength(40 << 20);
            sparse.Position = 30 << 20;
            sparse.Write(large.AsSpan(0, 100_000));
        }
        var archive = folder.At("a.vmb");
        var first = Do.Capture(folder.At("src"), archive);
        large[8 << 20] ^= 1;
        File.WriteAllBytes(folder.At("src/large"), large);
        folder.Write("src/small", "SMALL");
        var again = Do.Capture(folder.At("src"), archive, "again", r => r with { Reread = true });
        Assert.Equal(first.Stats.BytesRead, again.Stats.BytesRead);
        Assert.NotEqual(first.Image.Root, again.Image.Root);
        var alone = Do.Capture(folder.At("src"), folder.At("b.vmb"));
        Assert.Equal(alone.Image.Root, again.Image.Root);
        Assert.True(again.Stats.BytesNew < 3 << 20, $"{again.Stats.BytesNew} bytes were taken for new");
    }

    // Folders of much content are read in parts by whoever is free; what differs in one of them is a matter for all of it.
    [Fact]
    public void ReadingAgainInPartsFindsWhatNoTimeTells()
    {
        using var folder = new TempFolder();
        var random = new Random(3);
        var bytes = new byte[3 << 20];
        string[] folders = ["much", "much/inner", "little", "little/inner"];
        foreach (var inner in folders)
        {
            for (var i = 0; i < 9; i++)
            {
                var own = bytes.AsSpan(0, (inner.StartsWith('m') ? 2 << 20 : 10_000) + i);
                random.NextBytes(own);
                File.WriteAllBytes(folder.Write($"src/{inner}/{i}", ""), own);
            }
            folder.Write($"src/{inner}/empty", "");
        }
        var archive = folder.At("a.vmb");
        var first = Do.Capture(folder.At("src"), archive);
        var same = Do.Capture(folder.At("src"), archive, "same", r => r with { Reread = true });
        Assert.Equal((first.Image.Root, first.Stats.BytesRead, 36, 0),
            (same.Image.Root, same.Stats.BytesRead, same.Stats.FilesRead, same.Stats.BytesNew));
        Assert.Equal((first.Image.Files, first.Image.Folders, first.Image.Bytes), (same.Image.Files, same.Image.Folders, same.Image.Bytes));
        for (var round = 0; round < folders.Length; round++)
        {
            var file = folder.At($"src/{folders[round]}/{random.Next(9)}");
            var time = File.GetLastWriteTimeUtc(file);
            var other = File.ReadAllBytes(file);
            other[random.Next(other.Length)] ^= 1;
            File.WriteAllBytes(file, other);
            File.SetLastWriteTimeUtc(file, time);
            var next = Do.Capture(folder.At("src"), archive, $"round {round}", r => r with { Reread = true });
            var alone = Do.Capture(folder.At("src"), folder.At($"alone-{round}.vmb"));
            Assert.Equal(alone.Image.Root, next.Image.Root);
            Assert.Equal((alone.Image.Files, alone.Image.Folders, alone.Image.Bytes),
                (next.Image.Files, next.Image.Folders, next.Image.Bytes));
            Assert.NotEqual(first.Image.Root, next.Image.Root);
            Assert.InRange(next.Stats.BytesNew, 1, 1 << 20);
        }
        Assert.True(Do.Verify(archive).Ok);
    }

    [Fact]
    public void ADiffOfAnEditIsTheEdit()
    {
        var path = Gen.Int[0, 3].Array[1, 3].Select(p => string.Join('/', p.Select(i => $"n{i}")));
        Gen.Select(Gen.Bool, path, Gen.String[Gen.Char['a', 'd'], 0, 4]).Array[1, 12].Sample(edits =>
        {
            using var folder = new TempFolder();
            for (var i = 0; i < 4; i++)
                folder.Write($"src/n{i}/n{(i + 1) % 4}", $"{i}");
            var archive = folder.At("a.vmb");
            Do.Capture(folder.At("src"), archive);
            var before = Flat(archive, 1);
            foreach (var (put, where, text) in edits)
            {
                if (put)
                    Do.Service(archive + "#1", null, new PutChange(folder.Write("file", text), where));
                else
                    Do.Service(archive + "#1", null, new RemoveChange(where));
            }
            Do.Capture(folder.At("src"), archive, "before");
            var after = Flat(archive, 1);
            var diff = Do.Diff(new ImageReference(archive, "before"), new ImageReference(archive, "1"), CancellationToken.None);
            Assert.Equal(after.Keys.Except(before.Keys).Order(StringComparer.Ordinal), diff.Added.Order(StringComparer.Ordinal));
            Assert.Equal(before.Keys.Except(after.Keys).Order(StringComparer.Ordinal), diff.Removed.Order(StringComparer.Ordinal));
            Assert.Equal(
                before.Keys.Intersect(after.Keys).Where(k => before[k] != after[k]).Order(StringComparer.Ordinal),
                diff.Changed.Where(c => c.What.Contains("content") || c.What.Contains("kind")).Select(c => c.Path)
                .Order(StringComparer.Ordinal));
        }, iter: 12);
    }

    private static Dictionary<string, string> Flat(string archive, int number) =>
        Do.WithTree(archive, number, t => t.Walk(t.Root, WindowsPath.Root)
        .ToDictionary(e => e.Path.ToString(), e => $"{e.Entry.Kind} {e.Entry.Content?.Hash}"));

    [Fact]
    public void ADiffTellsRegistryProgramsAndDrivers()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        Do.Service(archive, "serviced", demo.Add(demo.Driver("corrin-storage")));
        var diff = Do.Diff(new ImageReference(archive, "1"), new ImageReference(archive, "serviced"), CancellationToken.None);
        Assert.Equal(["Windows/System32/config/SYSTEM"], diff.Changed.Select(c => c.Path));
        Assert.Contains(new ChangedValue("SYSTEM", @"ControlSet001\Services\corstor", "Start", "added"), diff.Registry!);
        Assert.Equal(["corstor.inf 4.2.118.0"], diff.Drivers!.Added);
        Assert.Empty(diff.Programs!.Added);
        var back = Do.Diff(new ImageReference(archive, "serviced"), new ImageReference(archive, "1"), CancellationToken.None);
        Assert.Equal(diff.Added, back.Removed);
        Assert.All(back.Registry!, v => Assert.Equal("removed", v.What));
        var other = folder.At("other.vmb");
        Do.Capture(demo.Reference("reading-room"), other, "Reading room");
        var between = Do.Diff(new ImageReference(archive, "1"), new ImageReference(other, null), CancellationToken.None);
        Assert.Contains("Lanternview Document Viewer 2.6", between.Programs!.Added);
        Assert.Contains("Shelfmark Lending Client 7.3.1", between.Programs.Removed);
        Assert.True(Do.Diff(new ImageReference(archive, "1"), new ImageReference(archive, "1"), CancellationToken.None).Same);
    }

    [Fact]
    public void DamageIsHealedFromAnotherArchiveThatHoldsTheSame()
    {
        using var folder = new TempFolder();
        var archive = Sources(folder);
        // Another archive with the same content in other blocks.
        var other = folder.At("other.vmb");
        foreach (var name in (string[])["c", "b", "a"])
            Do.Capture(folder.At(name), other, name, r => r with { Effort = Effort.Dense });
        var bytes = File.ReadAllBytes(archive);
        var random = new Random(2);
        for (var i = 0; i < 6; i++)
            bytes[random.Next(200_000, bytes.Length - 200_000)] ^= 0x55;
        File.WriteAllBytes(archive, bytes);
        var before = Do.Verify(archive);
        Assert.Contains(before.Damage, d => d.Path.EndsWith(".bin", StringComparison.Ordinal));
        var wrong = folder.At("wrong.vmb");
        folder.Write("d/x", "x");
        Do.Capture(folder.At("d"), wrong);
        Assert.False(Do.Repair(archive, [wrong], default, NoProgress.Instance, CancellationToken.None).Ok);
        Assert.Equal(bytes, File.ReadAllBytes(archive));
        var healed = Do.Repair(archive, [wrong, other], default, NoProgress.Instance, CancellationToken.None);
        Assert.True(healed.Ok, string.Join('\n', healed.Damage));
        Assert.NotEmpty(healed.Repaired);
        foreach (var name in (string[])["a", "b", "c"])
        {
            Do.Deploy($"{archive}#{name}", folder.At($"out-{name}"));
            Assert.Equal(Do.Listing(folder.At(name)), Do.Listing(folder.At($"out-{name}")));
        }
        // Later states merge their indexes and still find the good copies.
        for (var i = 0; i < 14; i++)
            Do.Retitle(new RetitleRequest { Image = new ImageReference(archive, "1"), Version = $"{i}" });
        Assert.True(Do.Verify(archive).Ok);
    }

    [Fact]
    public void ContentIsRecoveredWhenHeaderIndexesAndCommitsAreGone()
    {
        using var folder = new TempFolder();
        var archive = Sources(folder);
        var bytes = File.ReadAllBytes(archive);
        var states = Do.History(archive);
        bytes.AsSpan(0, 64).Clear();
        foreach (var state in states)
            bytes.AsSpan((int)state.End - 192, 192).Clear();
        // Every index segment begins with its magic; none is left.
        for (var at = bytes.AsSpan().IndexOf("VIDX"u8); at >= 0; at = bytes.AsSpan().IndexOf("VIDX"u8))
            bytes.AsSpan(at, 200).Clear();
        var broken = folder.Write("broken.vmb", bytes);
        Assert.Throws<VembarException>(() => Do.Verify(broken));
        var saved = folder.At("saved.vmb");
        var result = Do.Recover(broken, saved, NoProgress.Instance, CancellationToken.None);
        Assert.Empty(result.Lost);
        Assert.Equal(["1 a", "2 b", "3 c"], Names(saved));
        Assert.Equal(Describe(archive, 2).Root, Describe(saved, 2).Root);
        Assert.True(Do.Verify(saved).Ok);
        Assert.Equal("target-exists",
            Assert.Throws<VembarException>(() => Do.Recover(broken, saved, NoProgress.Instance, CancellationToken.None)).Code);
        var noise = new byte[100_000];
        new Random(3).NextBytes(noise);
        Assert.Equal(ErrorKind.Damaged,
            Assert.Throws<VembarException>(() => Do.Recover(folder.Write("noise", noise), folder.At("n.vmb"),
            NoProgress.Instance, CancellationToken.None)).Kind);
        Assert.False(File.Exists(folder.At("n.vmb")));
    }

    [Fact]
    public void RecoveringLosesWhatIsDamagedAndSaysSo()
    {
        using var folder = new TempFolder();
        var archive = Sources(folder);
        var bytes = File.ReadAllBytes(archive);
        bytes[300_000] ^= 1;
        var result = Do.Recover(folder.Write("broken.vmb", bytes), folder.At("saved.vmb"), NoProgress.Instance,
            CancellationToken.None);
        Assert.NotEmpty(result.Lost);
        Assert.Equal(3, result.Images.Count);
        Assert.True(Do.Verify(folder.At("saved.vmb")).Ok);
        var kept = Flat(folder.At("saved.vmb"), 3);
        Assert.Equal(Flat(archive, 3), kept);
    }
}
