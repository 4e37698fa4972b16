using Vembar.Tests;
using Vembar.Volumes.Disks;
using Xunit;

namespace Vembar.Cli.Tests;

/// <summary>Disks whose deployment was broken off: they never pass for whole ones.</summary>
public sealed class UnfinishedDiskTests(World world) : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    // Killed once most of the files are on it.
    private void Kill(string disk, string file, params string[] more)
    {
        var process = Vembar.Start(["deploy", world.Archive + "#1", disk, .. more]);
        SpinWait.SpinUntil(() => process.HasExited || (File.Exists(file) && Allocated(file) > 40 << 20), 60_000);
        process.Kill();
        Vembar.Finish(process);
    }

    private static long Allocated(string file) =>
        Native.Posix.TryStat(null, Native.PosixName.Encode(file), out var stat) ? stat.Allocated : 0;

    [Theory]
    [InlineData("vhdx")]
    [InlineData("img")]
    [InlineData("vmdk")]
    public void ANewDiskImageHasItsNameWhenItIsWhole(string ending)
    {
        var disk = _folder.At($"disk.{ending}");
        Kill(disk, disk + ".unfinished", "--size", "2 GiB");
        Assert.False(File.Exists(disk));
        Assert.True(File.Exists(disk + ".unfinished"));
        // What was left is used again, and nothing of it stays.
        var again = Vembar.Run("deploy", world.Archive + "#1", disk, "--size", "2 GiB", "--verify");
        Assert.True(again.Code == 0, again.Error);
        Assert.Equal([Path.GetFileName(disk)], Directory.EnumerateFiles(_folder.Path).Select(Path.GetFileName));
        Assert.Equal(0, Vembar.Run("ready", disk).Code);
        if (ending == "vmdk")
            Assert.Contains("\"disk.vmdk\"", Tools.Run("sh", ["-c", $"head -c 2048 '{disk}' | tr -d '\\0'"]), StringComparison.Ordinal);
    }

    [Fact]
    public void OneThatIsBeingMadeIsNotTouched()
    {
        var disk = _folder.At("disk.img");
        using var other = UnfinishedFile.Begin(disk);
        Vembar.Refused(5, "is being made by another run", "deploy", world.Archive + "#1", disk, "--size", "2 GiB");
        Assert.True(File.Exists(other.Path));
    }

    [Theory]
    [InlineData("uefi")]
    [InlineData("bios")]
    public void AnErasedDiskSaysSoAndHasNothingToStart(string layout)
    {
        var disk = _folder.At("disk.img");
        using (var file = File.Create(disk))
            file.SetLength(2L << 30);
        string[] erase = ["--erase", "--confirm", disk, "--layout", layout];
        Kill(disk, disk, erase);
        var survey = Vembar.Run("survey", disk, "--json");
        Assert.Equal(0, survey.Code);
        Assert.Contains(survey.Json.GetProperty("warnings").EnumerateArray(),
            w => w.GetString()!.Contains("broken off", StringComparison.Ordinal));
        // The partition that firmware looks into holds no file system.
        Assert.Equal("unknown", survey.Json.GetProperty("volumes")[0].GetProperty("fileSystem").GetString());
        var capture = Vembar.Run("capture", disk, _folder.At("a.vmb"), "--name", "x", "--accept-unready");
        Assert.Equal(3, capture.Code);
        Assert.False(File.Exists(_folder.At("a.vmb")));
        Assert.NotEqual(0, Vembar.Run("ready", disk).Code);
        var again = Vembar.Run(["deploy", world.Archive + "#1", disk, .. erase, "--verify"]);
        Assert.True(again.Code == 0, again.Error);
        Assert.Empty(Vembar.Run("survey", disk, "--json").Json.GetProperty("warnings").EnumerateArray());
        Assert.Equal(0, Vembar.Run("ready", disk).Code);
    }
}
