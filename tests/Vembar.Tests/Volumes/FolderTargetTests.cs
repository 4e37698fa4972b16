using Vembar.Common;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.Deploy;
using Vembar.Store.Reading;
using Vembar.Windows.Servicing.Files;
using Xunit;

namespace Vembar.Tests;

/// <summary>Trees written into folders of Linux.</summary>
public class FolderTargetTests
{
    [Fact]
    public void ABrokenOffDeploymentSaysWhatItLeftAndIsGoneOnWith()
    {
        using var folder = new TempFolder();
        for (var i = 0; i < 40; i++)
            folder.Write($"src/d{i % 5}/f{i}", $"{i}");
        Do.Capture(folder.At("src"), folder.At("a.vmb"));
        folder.Write("out/mine.txt", "mine");
        using var stop = new CancellationTokenSource();
        folder.Write("out/d1/f1", "older");
        var request = new DeployRequest
        {
            Image = new ImageReference(folder.At("a.vmb"), null),
            Target = folder.At("out"),
            KeepExisting = true,
            Verify = true,
        };
        var told = Assert.Throws<VembarException>(() => Do.Deploy(request, new StopAt("writing files", stop), stop.Token));
        Assert.Equal(VembarException.Interrupted, told.Code);
        Assert.Matches("interrupted; [0-9]+ of 40 files are in '.*', each of them whole", told.Message);
        // What was there before the first run is not its own, and what was being written when a run was killed is not whole.
        var written = Directory.EnumerateFiles(folder.At("out"), "f*", SearchOption.AllDirectories)
            .First(f => !f.EndsWith("d1/f1", StringComparison.Ordinal));
        File.WriteAllText(written, "h");
        folder.Write("out/d2/f7", "");
        File.WriteAllText(folder.At("other.txt"), "x");
        Do.Capture(folder.At("out"), folder.At("a.vmb"), "two", r => r with { LeaveOut = [".vembar*"] });
        Assert.Equal("other-deployment", Assert.Throws<VembarException>(() => Do.Deploy(request with
        {
            Image = new ImageReference(folder.At("a.vmb"), "2"),
        }, NoProgress.Instance, CancellationToken.None)).Code);
        request = request with { Image = new ImageReference(folder.At("a.vmb"), "1") };
        var done = Do.Deploy(request, NoProgress.Instance, CancellationToken.None);
        Assert.Equal(["d1/f1"], done.Kept);
        Assert.Empty(done.Differences);
        Assert.Contains("1 file that was kept was not compared with the image", done.Warnings);
        Assert.Equal("older", File.ReadAllText(folder.At("out/d1/f1")));
        Assert.Equal("mine", File.ReadAllText(folder.At("out/mine.txt")));
        for (var i = 0; i < 40; i++)
            Assert.Equal(i == 1 ? "older" : $"{i}", File.ReadAllText(folder.At(i == 1 ? "out/d1/f1" : $"out/d{i % 5}/f{i}")));
        Assert.DoesNotContain(Directory.EnumerateFileSystemEntries(folder.At("out")), f => Path.GetFileName(f).StartsWith('.'));
        // Finished, it is a folder with files like any other.
        Assert.Equal("target-not-empty", Assert.Throws<VembarException>(() => Do.Deploy(request with
        {
            KeepExisting = false,
        }, NoProgress.Instance, CancellationToken.None)).Code);
    }

    [Fact]
    public void AResumedDeploymentGivesTheTreeThatOneRunGives()
    {
        using var folder = new TempFolder();
        for (var i = 0; i < 60; i++)
            folder.Write($"src/d{i % 7}/e{i % 3}/f{i}", new string((char)('a' + i % 26), 100 * i));
        Tools.Run("sh",
            ["-c", "cd src; ln d0/e0/f0 d1/linked; ln -s d0 soft; mkdir -p empty/in; chmod 700 d3; touch -d '2021-02-03 UTC' d3 soft -h; "
            + "truncate -s 5000000 hole; touch -d '2020-01-01 UTC' hole ."], folder.Path);
        Do.Capture(folder.At("src"), folder.At("a.vmb"));
        for (var round = 0; round < 6; round++)
        {
            var stopping = new StopAfter(round * 11);
            var target = folder.At($"out{round}");
            var request = new DeployRequest { Image = new ImageReference(folder.At("a.vmb"), null), Target = target, Verify = true };
            var told = Assert.ThrowsAny<Exception>(() => Do.Deploy(request, stopping, stopping.Token));
            Assert.True(told is OperationCanceledException or VembarException { Code: VembarException.Interrupted });
            var done = Do.Deploy(request, NoProgress.Instance, CancellationToken.None);
            Assert.Empty(done.Differences);
            Assert.Empty(done.Kept);
            Assert.Equal(Do.Listing(folder.At("src")), Do.Listing(target));
        }
    }

    [Fact]
    public void AfterANewStartOfTheMachineWhatIsThereIsComparedAndTheJournalStays()
    {
        using var folder = new TempFolder();
        for (var i = 0; i < 30; i++)
            folder.Write($"src/f{i}", $"content {i:00}");
        Do.Capture(folder.At("src"), folder.At("a.vmb"));
        var request = new DeployRequest { Image = new ImageReference(folder.At("a.vmb"), null), Target = folder.At("out"), Verify = true };
        void BreakOff(int after)
        {
            using var stopping = new StopAfter(after);
            Assert.Throws<VembarException>(() => Do.Deploy(request, stopping, stopping.Token));
        }
        BreakOff(20);
        var journal = folder.At("out/.vembar-deploying");
        var text = File.ReadAllText(journal);
        var earlier = System.Text.RegularExpressions.Regex.Replace(text, "\"start\":\"[^\"]*\"", "\"start\":\"another\"");
        Assert.NotEqual(text, earlier);
        File.WriteAllText(journal, earlier);
        // A file that has its length and time, and not its content: what a power cut leaves.
        var lost = Directory.EnumerateFiles(folder.At("out"), "f*").First();
        var time = File.GetLastWriteTimeUtc(lost);
        void Lose()
        {
            File.WriteAllBytes(lost, new byte[10]);
            File.SetLastWriteTimeUtc(lost, time);
        }
        Lose();
        BreakOff(0);
        Assert.Equal(earlier, File.ReadAllText(journal));
        Lose();
        Assert.Empty(Do.Deploy(request, NoProgress.Instance, CancellationToken.None).Differences);
        Assert.Equal(Do.Listing(folder.At("src")), Do.Listing(folder.At("out")));
    }

    [Fact]
    public void AJournalThatWasBeingWrittenIsNone()
    {
        using var folder = new TempFolder();
        folder.Write("src/a", "a");
        Do.Capture(folder.At("src"), folder.At("a.vmb"));
        folder.Write("out/.vembar-deploying.new", "{\"ke");
        Assert.Equal(1, Do.Deploy(folder.At("a.vmb"), folder.At("out")).Files);
        Assert.Equal(["a"], Directory.EnumerateFileSystemEntries(folder.At("out")).Select(Path.GetFileName));
    }

    [Fact]
    public void OfTwoDeploymentsIntoOneFolderOneIsRefused()
    {
        using var folder = new TempFolder();
        folder.Write("src/a", "a");
        Do.Capture(folder.At("src"), folder.At("a.vmb"));
        var request = new DeployRequest { Image = new ImageReference(folder.At("a.vmb"), null), Target = folder.At("out") };
        var second = new Another(() => Assert.Equal("target-in-use",
            Assert.Throws<VembarException>(() => Do.Deploy(request, NoProgress.Instance, CancellationToken.None)).Code));
        Do.Deploy(request, second, CancellationToken.None);
        Assert.True(second.WasTried);
        Assert.Equal("a", File.ReadAllText(folder.At("out/a")));
    }

    [Fact]
    public void ExistingFilesAreKeptAndNamedOnlyWhenAsked()
    {
        using var folder = new TempFolder();
        folder.Write("src/a/one", "new");
        folder.Write("src/two", "new");
        Do.Capture(folder.At("src"), folder.At("a.vmb"));
        folder.Write("out/a/one", "old");
        Assert.Equal("target-not-empty", Assert.Throws<VembarException>(() => Do.Deploy(folder.At("a.vmb"), folder.At("out"))).Code);
        Assert.False(File.Exists(folder.At("out/two")));
        var result = Do.Deploy(folder.At("a.vmb"), folder.At("out"), r => r with { KeepExisting = true });
        Assert.Equal(["a/one"], result.Kept);
        Assert.Equal("old", File.ReadAllText(folder.At("out/a/one")));
        Assert.Equal("new", File.ReadAllText(folder.At("out/two")));
    }

    [Fact]
    public void ALinkInTheTargetDoesNotLeadOutOfIt()
    {
        using var folder = new TempFolder();
        folder.Write("src/a/one", "new");
        Do.Capture(folder.At("src"), folder.At("a.vmb"));
        Directory.CreateDirectory(folder.At("outside"));
        Directory.CreateDirectory(folder.At("out"));
        File.CreateSymbolicLink(folder.At("out/a"), folder.At("outside"));
        Assert.Throws<VembarException>(() => Do.Deploy(folder.At("a.vmb"), folder.At("out"), r => r with { KeepExisting = true }));
        Assert.Empty(Directory.EnumerateFileSystemEntries(folder.At("outside")));
    }

    // Tries something else when the first file is written.
    private sealed class Another(Action tried) : IProgress<OperationProgress>
    {
        public bool WasTried { get; private set; }

        public void Report(OperationProgress value)
        {
            if (value.Phase != "writing files" || WasTried)
                return;
            WasTried = true;
            tried();
        }
    }

    // What cannot be read of the archive leaves whole files and says which.
    [Fact]
    public void DamagedContentLeavesWholeFilesAlone()
    {
        using var folder = new TempFolder();
        var random = new Random(4);
        for (var i = 0; i < 12; i++)
        {
            var bytes = new byte[700_000];
            random.NextBytes(bytes);
            folder.Write($"src/f{i:00}", bytes);
        }
        Do.Capture(folder.At("src"), folder.At("a.vmb"));
        long place;
        using (var reader = ArchiveReader.Open(folder.At("a.vmb")))
        {
            var tree = new ImageTree(reader, reader.Images[0].Root, "one");
            var content = tree.Find(WindowsPath.Parse("f07"))!.Content!;
            Assert.NotNull(reader.FindOwner(content.Parts![0].Id, out var found));
            place = found.Block.PayloadOffset + found.Block.StoredLength / 2;
        }
        using (var file = File.OpenWrite(folder.At("a.vmb")))
        {
            file.Position = place;
            file.Write(new byte[64]);
        }
        var told = Assert.Throws<VembarException>(() => Do.Deploy(folder.At("a.vmb"), folder.At("out")));
        Assert.Equal(ErrorKind.Damaged, told.Kind);
        foreach (var file in Directory.Exists(folder.At("out")) ? Directory.EnumerateFiles(folder.At("out"), "f*") : [])
            Assert.Equal(File.ReadAllBytes(folder.At($"src/{Path.GetFileName(file)}")), File.ReadAllBytes(file));
    }

    [Fact]
    public void NamesThatLinuxCannotWriteAreToldTogether()
    {
        using var folder = new TempFolder();
        folder.Write("src/a", "a");
        Do.Capture(folder.At("src"), folder.At("a.vmb"));
        // 150 characters of three bytes each.
        string[] names = [new string('\u4e00', 150), new string('\u4e01', 150)];
        Do.Service($"{folder.At("a.vmb")}#1", "long",
            [.. names.Select(n => new PutChange(folder.At("src/a"), $"folder/{n}"))]);
        var told = Assert.Throws<VembarException>(() => Do.Deploy($"{folder.At("a.vmb")}#long", folder.At("out")));
        Assert.Equal(("name-not-possible", 2), (told.Code, told.Details.Count));
        Assert.False(Path.Exists(folder.At("out")));
    }
}
