using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests;

/// <summary>Interrupted, out of room, with output that goes nowhere: what was there stays as it was.</summary>
public sealed class InterruptionTests(World world)
{
    [Fact]
    public void AFullDiskLosesNothing()
    {
        Assert.SkipUnless(Native.Posix.IsRoot, "needs root to mount a small file system");
        using var folder = new TempFolder();
        var small = folder.At("small");
        Directory.CreateDirectory(small);
        var (code, _, error) = Tools.Try("mount", ["-t", "tmpfs", "-o", "size=12M", "tmpfs", small]);
        Assert.SkipUnless(code == 0, $"cannot mount here: {error}");
        try
        {
            var archive = Path.Combine(small, "a.vmb");
            Vembar.Refused(5, "no room left", "capture", world.At("references/lending-desk"), archive, "--name", "x");
            Assert.Empty(Directory.EnumerateFileSystemEntries(small));
            Assert.Equal(0, Vembar.Run("capture", world.At("drivers"), archive, "--name", "Drivers").Code);
            var before = File.ReadAllBytes(archive);
            Vembar.Refused(5, "no room left", "capture", world.At("references/lending-desk"), archive, "--name", "x");
            Assert.Equal(before, File.ReadAllBytes(archive));
            Vembar.Refused(5, "has room for", "deploy", world.Archive + "#1", Path.Combine(small, "out"));
            Vembar.Refused(5, "no room left", "take", world.Archive + "#1", "Windows", "Program Files", "--to",
                Path.Combine(small, "taken"));
            Assert.False(Directory.Exists(Path.Combine(small, "taken/Windows")));
            Assert.True(Vembar.Run("verify", archive, "--json").Json.GetProperty("ok").GetBoolean());
        }
        finally
        {
            Tools.Run("umount", [small]);
        }
    }

    [Theory]
    [InlineData("INT")]
    [InlineData("TERM")]
    public void AnInterruptedCaptureLeavesWhatWasThere(string signal)
    {
        using var folder = new TempFolder();
        var archive = world.CopyArchive(folder);
        var before = File.ReadAllBytes(archive);
        Directory.CreateDirectory(folder.At("src"));
        for (var i = 0; i < 40; i++)
        {
            var bytes = new byte[4 << 20];
            new Random(i).NextBytes(bytes);
            folder.Write($"src/{i}.bin", bytes);
        }
        var process = Vembar.Start(["capture", folder.At("src"), archive, "--name", "interrupted", "--effort", "dense"]);
        while (!process.HasExited && new FileInfo(archive).Length == before.Length)
            Thread.Sleep(5);
        Tools.Run("kill", [$"-{signal}", $"{process.Id}"]);
        var ran = Vembar.Finish(process);
        Assert.Equal(130, ran.Code);
        Assert.Contains("interrupted", ran.Error, StringComparison.Ordinal);
        Assert.Equal(before, File.ReadAllBytes(archive));
        // A kill that cannot be caught leaves a tail that the next writer removes.
        process = Vembar.Start(["capture", folder.At("src"), archive, "--name", "killed", "--effort", "dense"]);
        while (!process.HasExited && new FileInfo(archive).Length == before.Length)
            Thread.Sleep(5);
        process.Kill();
        Vembar.Finish(process);
        Assert.Contains("belong to no finished state", Vembar.Run("list", archive).Error, StringComparison.Ordinal);
        var next = Vembar.Run("capture", world.At("drivers"), archive, "--name", "next");
        Assert.Equal(0, next.Code);
        Assert.Contains("were removed", next.Error, StringComparison.Ordinal);
        Assert.Equal(0, Vembar.Run("verify", archive).Code);
    }

    // Killed while it starts them, while they answer, while they work: the programs that serve disks end too, and leave no folder.
    [Fact]
    public void NothingOutlivesAKill()
    {
        using var folder = new TempFolder();
        var disk = folder.At("disk.qcow2");
        Directory.CreateDirectory(folder.At("temp"));
        Tools.Run("qemu-img", ["convert", "-O", "qcow2", world.At("disks/lending-desk.vhdx"), disk]);
        for (var round = 0; round < 24; round++)
        {
            var process = Vembar.Start(["capture", disk, folder.At($"{round}.vmb"), "--name", "killed", "--effort", "dense"],
                start => start.Environment["TMPDIR"] = folder.At("temp"));
            if (round % 2 == 0)
                SpinWait.SpinUntil(() => Users(disk).Any(u => u != process.Id), 10_000);
            Thread.Sleep(round * 3);
            process.Kill();
            Vembar.Finish(process);
            Assert.True(SpinWait.SpinUntil(() => !Users(disk).Any(), 10_000), $"round {round}: {string.Join(", ", Users(disk))}");
        }
        Assert.DoesNotContain(Directory.EnumerateDirectories(folder.At("temp")), d => File.Exists(Path.Combine(d, "s")));
    }

    // What cannot be read because its server is gone is no file that cannot be read: nothing is left out, and nothing passes for done.
    [Fact]
    public void ADiskServerThatEndsIsNoDamageOfTheDisk()
    {
        using var folder = new TempFolder();
        var disk = folder.At("disk.qcow2");
        Tools.Run("qemu-img", ["convert", "-O", "qcow2", world.At("disks/lending-desk.vhdx"), disk]);
        for (var round = 0; round < 4; round++)
        {
            var archive = folder.At($"{round}.vmb");
            var process = Vembar.Start(["capture", disk, archive, "--name", "x", "--effort", "dense", "--skip-unreadable"]);
            SpinWait.SpinUntil(() => File.Exists(archive) && new FileInfo(archive).Length > round * 100_000, 20_000);
            foreach (var server in Users(disk).Where(u => u != process.Id).ToList())
                Tools.Try("kill", ["-KILL", $"{server}"]);
            var ran = Vembar.Finish(process);
            Assert.Equal(5, ran.Code);
            Assert.Contains("qemu-nbd", ran.Error, StringComparison.Ordinal);
            Assert.DoesNotContain("is damaged", ran.Error, StringComparison.Ordinal);
            Assert.False(File.Exists(archive));
        }
    }

    // The processes that have a file open.
    private static IEnumerable<int> Users(string file)
    {
        foreach (var process in Directory.EnumerateDirectories("/proc").Where(d => char.IsAsciiDigit(Path.GetFileName(d)[0])))
        {
            var has = false;
            try
            {
                has = Directory.EnumerateFiles(Path.Combine(process, "fd")).Any(f => new FileInfo(f).LinkTarget == file);
            }
            catch (Exception failure) when (failure is IOException or UnauthorizedAccessException)
            {
                // It ended meanwhile, or is another user's.
            }
            if (has)
                yield return int.Parse(Path.GetFileName(process), System.Globalization.CultureInfo.InvariantCulture);
        }
    }

    [Fact]
    public void OutputThatCannotBeWrittenIsSaidAndLosesNothing()
    {
        using var folder = new TempFolder();
        var archive = world.CopyArchive(folder);
        (int Code, string Output, string Error) To(string where, string command) =>
            Tools.Try("sh", ["-c", $"'{Vembar.Path}' {command.Replace("ARCHIVE", $"'{archive}'", StringComparison.Ordinal)} {where}"]);
        foreach (var command in (string[])["list ARCHIVE", "list ARCHIVE --json", "files ARCHIVE#1 --deep",
            "files ARCHIVE#1 --deep --json", "verify ARCHIVE", "--help", "list --help",
            "take ARCHIVE#1 Windows/System32/ntoskrnl.exe --to -"])
        {
            var (code, _, error) = To("> /dev/full", command);
            Assert.Equal(5, code);
            Assert.Contains("standard output cannot be written", error, StringComparison.Ordinal);
            Assert.DoesNotContain("   at ", error, StringComparison.Ordinal);
        }
        // An error whose document cannot be printed is told in words; its exit code stays.
        var missing = To("> /dev/full", "list nowhere.vmb --json");
        Assert.Equal((3, true), (missing.Code, missing.Error.Contains("there is no archive", StringComparison.Ordinal)));
        // What was done is done, and that is said.
        var drop = To("> /dev/full", "drop ARCHIVE#2 --confirm");
        Assert.Equal((5, true), (drop.Code, drop.Error.Contains("Whatever was changed is changed", StringComparison.Ordinal)));
        Assert.Single(Vembar.Run("list", archive, "--json").Json.GetProperty("images").EnumerateArray());
        // Nobody hears of it, and it is done.
        Assert.Equal(3, To("2> /dev/full", "list nowhere.vmb").Code);
        Assert.Equal(0, To("> /dev/null 2> /dev/full", $"capture '{world.At("drivers")}' ARCHIVE --name more").Code);
        // Whoever has seen enough of it ends it without a word.
        var head = Tools.Try("bash", ["-c", $"'{Vembar.Path}' files '{archive}#1' --deep | head -1; echo ${{PIPESTATUS[0]}}"]);
        Assert.Equal(("", "0"), (head.Error, head.Output.Split('\n')[1]));
        Assert.Equal(0, Vembar.Run("verify", archive).Code);
    }

    // The .NET runtime opens files of its own before the program begins, and they get the numbers of streams that are closed: only the
    // program that is compiled ahead of time can see that.
    [Fact]
    [Trait("Set", "Slow")]
    public void ClosedStreamsAndNamesThatAreNotUtf8Work()
    {
        Vembar.DemandAheadOfTime();
        using var folder = new TempFolder();
        var archive = world.CopyArchive(folder);
        var before = File.ReadAllBytes(archive);
        (int Code, string Output, string Error) Shell(string command) =>
            Tools.Try("bash", ["-c", command.Replace("VEMBAR", $"'{Vembar.Path}'", StringComparison.Ordinal)], folder.Path);
        Assert.Equal(5, Shell("VEMBAR list desks.vmb >&-").Code);
        Assert.Equal(0, Shell("VEMBAR list desks.vmb <&- 2>&-").Code);
        Assert.Equal(3, Shell("VEMBAR list nowhere.vmb --json >&-").Code);
        Assert.Equal(5, Shell("VEMBAR list desks.vmb <&- >&- 2>&-").Code);
        // Nothing of what was to be printed went into a file.
        Assert.Equal(before, File.ReadAllBytes(archive));
        Assert.NotEqual(134, Shell("VEMBAR retitle desks.vmb#1 --note x <&- >&- 2>&-").Code);
        Assert.Equal(0, Vembar.Run("verify", archive).Code);
        Assert.Equal(0,
            Shell("mkdir src $'b\\xffd' && echo x > src/x && VEMBAR capture src $'b\\xffd/n\\xfe.vmb' --name one && VEMBAR capture src "
            + "$'b\\xffd/n\\xfe.vmb' --name two && VEMBAR drop $'b\\xffd/n\\xfe.vmb#1' --confirm "
            + "&& VEMBAR verify $'b\\xffd/n\\xfe.vmb'").Code);
    }

    [Fact]
    [Trait("Set", "Slow")]
    public void ProgressOnATerminalTakesLargeFiles()
    {
        using var folder = new TempFolder();
        Directory.CreateDirectory(folder.At("src"));
        Tools.Run("sh", ["-c", "head -c 60000000 /dev/urandom > src/large"], folder.Path);
        foreach (var command in (string[])["capture src a.vmb --name one --effort dense", "capture src a.vmb --name two --reread",
            "verify a.vmb", "copy a.vmb#1 b.vmb", "deploy a.vmb#1 out --verify", "compact a.vmb --effort quick --confirm"])
        {
            var (code, output, _) = Tools.Try("script", ["-qec", $"'{Vembar.Path}' {command}", "/dev/null"], folder.Path);
            Assert.Equal((command, 0), (command, code));
            Assert.DoesNotContain("xception", output, StringComparison.Ordinal);
            // What ends at once shows no progress; this takes its time on any machine.
            if (command.Contains("dense", StringComparison.Ordinal))
                Assert.Contains("\u001b[K", output, StringComparison.Ordinal);
        }
    }

    [Theory]
    [InlineData("HUP")]
    [InlineData("TERM")]
    public void AnInterruptedDeploymentSaysWhatItLeftAndIsFinishedByTheSameCommand(string signal)
    {
        using var folder = new TempFolder();
        Directory.CreateDirectory(folder.At("src"));
        Tools.Run("sh", ["-c", "for i in $(seq 3000); do echo $i > src/f$i; done; head -c 100000000 /dev/urandom > src/large"],
            folder.Path);
        Assert.Equal(0, Vembar.Run("capture", folder.At("src"), folder.At("a.vmb"), "--name", "one").Code);
        var process = Vembar.Start(["deploy", folder.At("a.vmb"), folder.At("out"), "--json"]);
        while (!File.Exists(folder.At("out/.vembar-deploying")) && !process.HasExited)
            Thread.Sleep(1);
        Tools.Try("kill", [$"-{signal}", $"{process.Id}"]);
        var ran = Vembar.Finish(process);
        // It may have been through already.
        if (ran.Code != 0)
        {
            Assert.Equal((130, "interrupted"), (ran.Code, ran.JsonError.GetProperty("code").GetString()));
            Assert.False(Directory.Exists(folder.At("out")) && !File.Exists(folder.At("out/.vembar-deploying")));
            Assert.Equal(0, Vembar.Run("deploy", folder.At("a.vmb"), folder.At("out"), "--verify").Code);
        }
        Assert.Equal(Do.Listing(folder.At("src")), Do.Listing(folder.At("out")));
    }

    [Fact]
    public void TwoWritersDoNotMix()
    {
        using var folder = new TempFolder();
        var archive = folder.At("a.vmb");
        var running = Enumerable.Range(0, 4)
            .Select(i => Vembar.Start(["capture", world.At("references/lending-desk"), archive, "--name", $"n{i}", "--wait",
                i == 0 ? "0" : "60"])).ToList();
        var ends = running.ConvertAll(Vembar.Finish);
        Assert.All(ends.Skip(1), e => Assert.Equal(0, e.Code));
        Assert.True(ends[0].Code == 0 || (ends[0].Code == 5 && ends[0].Error.Contains("another process", StringComparison.Ordinal)),
            ends[0].Error);
        var images = Vembar.Run("list", archive, "--json").Json.GetProperty("images").EnumerateArray()
            .Select(i => i.GetProperty("number").GetInt32()).ToList();
        Assert.Equal(Enumerable.Range(1, images.Count), images);
        Assert.Equal(0, Vembar.Run("verify", archive).Code);
    }
}
