using Vembar.Common;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Operations;
using Vembar.Operations.Deploy;
using Vembar.Volumes.Disks;
using Xunit;

namespace Vembar.Tests;

/// <summary>Trees written into volumes of NTFS.</summary>
public class NtfsTargetTests
{
    [Fact]
    public void AVolumeCanBeDeployedIntoAndKeepsWhatIsThere()
    {
        using var folder = new TempFolder();
        var archive = folder.At("a.vmb");
        folder.Write("src/Data/one.txt", "from the image");
        folder.Write("src/Data/two.txt", "from the image too");
        Tools.Run("ln", [folder.At("src/Data/one.txt"), folder.At("src/Data/other name.txt")]);
        Do.Capture(folder.At("src"), archive);
        var volume = NtfsVolumes.Make(folder);
        NtfsVolumes.Fill(folder, volume, "mkdir Data; printf 'from before' > Data/one.txt");
        Assert.Equal("target-not-empty", Assert.Throws<VembarException>(() => Do.Deploy(archive, volume, r => r with { Volume = 1 })).Code);
        var result = Do.Deploy(archive, volume, r => r with { Volume = 1, KeepExisting = true });
        Assert.Equal(["Data/one.txt"], result.Kept);
        NtfsVolumes.Fill(folder, volume,
            "test \"$(cat Data/one.txt)\" = 'from before'; test \"$(cat Data/two.txt)\" = 'from the image too'; test \"$(cat 'Data/other "
            + "name.txt')\" = 'from the image'");
        Assert.Equal("no-such-volume", Assert.Throws<VembarException>(() => Do.Deploy(archive, volume, r => r with { Volume = 7 })).Code);
        Assert.Contains(result.Warnings, w => w.Contains("owners and permissions of Linux", StringComparison.Ordinal));
    }

    [Fact]
    public void ADeploymentIntoAVolumeIsGoneOnWith()
    {
        using var folder = new TempFolder();
        var archive = SmallDisks.Archive(folder);
        folder.Write("base/keep/mine", "mine");
        folder.Write("base/d1/f1", "older");
        Do.Capture(folder.At("base"), archive, "base");
        var disk = folder.At("disk.img");
        Do.Deploy(archive + "#base", disk, r => r with { Size = 400 << 20, Layout = folder.At("layout.yaml") });
        var request = new DeployRequest
        {
            Image = ImageReference.Parse(archive + "#1"),
            Target = disk,
            Volume = 1,
            KeepExisting = true,
            Verify = true,
        };
        for (var round = 0; round < 3; round++)
        {
            using var stop = new CancellationTokenSource();
            var told = Assert.Throws<VembarException>(() => Do.Deploy(request, new StopAt("writing files", stop), stop.Token));
            Assert.Matches("interrupted; volume 1 of '.*' holds [0-9]+ of 31 files of the image, each of them whole", told.Message);
            Assert.Equal("other-deployment", Assert.Throws<VembarException>(() => Do.Deploy(archive + "#base", disk,
                r => r with { Volume = 1, KeepExisting = true })).Code);
        }
        var done = Do.Deploy(request, NoProgress.Instance, CancellationToken.None);
        Assert.Empty(done.Differences);
        Assert.Equal(["d1/f1"], done.Kept);
        Assert.True(done.Resumed > 0);
        // Others find a sound volume with all of it.
        var partition = folder.At("partition.img");
        using (var open = Disk.Open(disk))
            Tools.Run("dd", [$"if={disk}", $"of={partition}", "bs=1M", $"skip={open.Volumes[0].Start >> 20}",
                $"count={open.Volumes[0].Length >> 20}", "conv=sparse", "status=none"]);
        Assert.DoesNotContain("ERROR", Tools.Run("ntfsresize", ["-i", "-f", partition]), StringComparison.Ordinal);
        Do.Capture(disk, archive, "back", r => r with { KeepAll = true, Volume = 1 });
        var names = Do.WithTree(archive, 3,
            t => t.Walk(t.Root, WindowsPath.Root).Where(e => e.Entry.Kind == EntryKind.File).Select(e => e.Path.ToString()).ToList());
        Assert.Equal(32, names.Count);
        Assert.DoesNotContain(names, n => n.StartsWith('.'));
    }

    // Wherever it is ended, the next run makes what one run makes.
    [Fact]
    public void EndedAnywhereItIsGoneOnWithToTheSameVolume()
    {
        using var folder = new TempFolder();
        var archive = SmallDisks.Archive(folder);
        string State(string volume)
        {
            Do.Capture(volume, folder.At("back.vmb"), Path.GetFileNameWithoutExtension(volume), r => r with { KeepAll = true });
            return Do.WithTree(folder.At("back.vmb"), 1, t => string.Join('\n', t.Walk(t.Root, WindowsPath.Root)
                .Select(e => $"{e.Path} {e.Entry.Length} {e.Entry.Content?.Hash} {e.Entry.Modified} {e.Entry.LinkGroup}")));
        }
        DeployRequest Request(string volume) => new() { Image = ImageReference.Parse(archive), Target = volume, Volume = 1, Verify = true };
        var whole = NtfsVolumes.Make(folder, "whole.img");
        Do.Deploy(Request(whole));
        var expected = State(whole);
        File.Delete(folder.At("back.vmb"));
        foreach (var reports in (int[])[0, 1, 7, 29])
        {
            var volume = NtfsVolumes.Make(folder, $"after-{reports}.img");
            using var stop = new StopAfter(reports);
            var told = Assert.Throws<VembarException>(() => Do.Deploy(Request(volume), stop, stop.Token));
            Assert.Equal(VembarException.Interrupted, told.Code);
            var done = Do.Deploy(Request(volume));
            Assert.Equal((31L, 0), (done.Files, done.Differences.Count));
            Assert.Equal(expected, State(volume));
            File.Delete(folder.At("back.vmb"));
        }
    }
}
