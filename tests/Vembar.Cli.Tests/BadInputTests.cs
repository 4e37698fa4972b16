using System.Diagnostics;
using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests;

public class BadInputTests(World world)
{
    // One line that says what is wrong, no stack trace, the right code; with --json one document.
    private static void Refused(int code, string part, params string[] arguments)
    {
        var plain = Vembar.Run(arguments);
        Assert.Equal((code, ""), (plain.Code, plain.Output));
        Assert.StartsWith("vembar: ", plain.Error, StringComparison.Ordinal);
        Assert.Contains(part, plain.Error, StringComparison.Ordinal);
        Assert.DoesNotContain("   at ", plain.Error, StringComparison.Ordinal);
        Assert.InRange(plain.Error.Split('\n').Length, 2, 12);
        var json = Vembar.Run([.. arguments, "--json"]);
        Assert.Equal(code, json.Code);
        Assert.NotEqual("", json.JsonError.GetProperty("code").GetString());
        Assert.Equal(["code", "message", "hint", "details"], json.JsonError.EnumerateObject().Select(p => p.Name));
    }

    [Fact]
    public void WrongCommandLinesAreSaid()
    {
        Refused(2, "Did you mean 'capture'?", "captur");
        Refused(2, "Did you mean '--name'?", "capture", "a", "b", "--nmae", "x");
        Refused(2, "--name", "capture", "a", "b");
        Refused(2, "--effort", "capture", "a", "b", "--name", "x", "--effort", "extreme");
        Refused(2, "--wait", "drop", "a", "--wait", "soon");
        Refused(2, "cannot be a name", "capture", world.At("drivers"), "/tmp/never.vmb", "--name", "12");
        Refused(2, "KEY=VALUE", "capture", world.At("drivers"), "/tmp/never.vmb", "--name", "x", "--label", "novalue");
    }

    [Fact]
    public void MissingAndMistypedThingsAreSaid()
    {
        using var folder = new TempFolder();
        Refused(3, $"Did you mean '{world.At("references/lending-desk")}'?", "capture", world.At("references/lending-dek"),
            folder.At("a.vmb"), "--name", "x");
        Refused(3, "is an archive of images, not a disk", "capture", world.Archive, folder.At("a.vmb"), "--name", "x");
        Refused(3, "no folder", "capture", world.At("drivers"), folder.At("no/such/a.vmb"), "--name", "x");
        Refused(3, "there is no archive", "list", folder.At("none.vmb"));
        Refused(3, "2: Reading room", "show", world.Archive + "#7");
        Refused(3, "Did you mean \"Reading room\" (number 2)?", "show", world.Archive + "#Readingroom");
        Refused(3, "holds 2 images", "show", world.Archive);
        Refused(3, "already holds an image \"Reading room\" 2026.09 (number 2)", "capture", world.At("drivers"), world.Archive, "--name",
            "reading room", "--version", "2026.09");
        Refused(3, "already holds", "service", world.Archive + "#1", "--remove", "x", "--as", "Reading room", "--version", "2026.09");
        Refused(3, "no version or channel '2026.08'", "show", world.Archive + "#Reading room@2026.08");
        Refused(2, "behind '@'", "capture", world.At("drivers"), world.Archive, "--name", "a@b");
        Refused(2, "exclude each other", "mark", world.Archive + "#1", "--lock", "--unlock");
        Refused(2, "not a day", "mark", world.Archive + "#1", "--retire", "soon");
        Refused(2, "no column", "list", world.Archive, "--columns", "number,colour");
        Refused(2, "KEY=VALUE", "list", world.Archive, "--where", "pilot");
        Refused(2, "no archive was named", "list");
        Refused(3, "no project file", "sites");
        Refused(3, "leads upward", "take", world.Archive + "#1", "../etc", "--to", folder.At("out"));
        Refused(3, "no file", "service", world.Archive + "#1", "--put", "nothing=x", "--in-place");
        Refused(3, "work order", "service", world.Archive + "#1", "--order", folder.At("none.yaml"), "--plan");
        Refused(3, "is a folder", "list", folder.Path);
        Refused(2, "computer name", "deploy", world.Archive + "#1", folder.At("out"), "--computer-name", "far too long a name");
        Assert.Empty(Directory.EnumerateFileSystemEntries(folder.Path));
    }

    [Fact]
    public void WhatIsNoArchiveIsSaid()
    {
        using var folder = new TempFolder();
        Refused(3, "is not a Vembar archive", "list", folder.Write("text.vmb", "just text, nothing else"));
        Refused(3, "is not a Vembar archive", "list", folder.Write("empty.vmb", ""));
        var bytes = File.ReadAllBytes(world.Archive);
        Refused(4, "cut short", "list", folder.Write("head.vmb", bytes[..40]));
        Refused(4, "holds no complete state", "verify", folder.Write("early.vmb", bytes[..100]));
        var newer = bytes.ToArray();
        newer[8] = 9;
        Refused(3, "archive format 9.0", "list", folder.Write("newer.vmb", newer));
        var header = bytes.ToArray();
        header[20] ^= 1;
        Refused(4, "damaged header", "list", folder.Write("header.vmb", header));
        // Cut within the second capture: the first is there, and the tail is told.
        var end = Vembar.Run("history", world.Archive, "--json").Json.GetProperty("states")[1].GetProperty("end").GetInt32();
        var cut = folder.Write("cut.vmb", bytes[..(end + 5000)]);
        var list = Vembar.Run("list", cut);
        Assert.Equal(0, list.Code);
        Assert.Contains("belong to no finished state", list.Error, StringComparison.Ordinal);
        Assert.Equal(1, Vembar.Run("verify", cut).Code);
        // Cut within the last record's second copy, nothing is lost.
        var late = Vembar.Run("list", folder.Write("late.vmb", bytes[..^100]));
        Assert.Equal((0, true), (late.Code, late.Error.Contains("its last state is whole", StringComparison.Ordinal)));
        Assert.Equal(Vembar.Run("list", world.Archive).Output, late.Output);
        Refused(3, "cut short or a capture into it was interrupted", "show", folder.Write("cut1.vmb", bytes[..(bytes.Length / 2)]));
    }

    [Fact]
    public void DamageIsNamedWithImageAndFile()
    {
        using var folder = new TempFolder();
        var bytes = File.ReadAllBytes(world.Archive);
        bytes[bytes.Length / 3] ^= 4;
        var damaged = folder.Write("damaged.vmb", bytes);
        var verify = Vembar.Run("verify", damaged, "--json");
        Assert.Equal(1, verify.Code);
        var damage = verify.Json.GetProperty("damage").EnumerateArray().Where(d => d.GetProperty("path").GetString()!.Length > 0).ToList();
        Assert.NotEmpty(damage);
        var path = damage[0].GetProperty("path").GetString()!;
        var image = damage[0].GetProperty("image").GetInt32();
        Refused(4, path, "take", $"{damaged}#{image}", path, "--to", folder.At("out"));
        Assert.False(Directory.Exists(folder.At("out")));
        Assert.Contains("is damaged", Vembar.Run("verify", damaged).Output, StringComparison.Ordinal);
    }

    [Fact]
    public void BadDriversAndAnswersAreRefusedWithTheReason()
    {
        using var folder = new TempFolder();
        var archive = world.CopyArchive(folder);
        var before = File.ReadAllBytes(archive);
        var inf = File.ReadAllText(world.At("drivers/pell-barcode/pellscan.inf"));
        folder.Write("missing/pellscan.inf", inf);
        folder.Write("arm/pellscan.inf", inf.Replace("NTamd64", "NTarm64", StringComparison.Ordinal));
        folder.Write("noinf/readme.txt", "nothing");
        folder.Write("bad.xml", "<unattend xmlns='urn:schemas-microsoft-com:unattend'>");
        foreach (var (part, arguments) in new (string, string[])[]
        {
            ("files that the INF names are missing: pellscan.dll", ["--driver", folder.At("missing")]),
            ("it is for arm64; the image is amd64", ["--driver", folder.At("arm")]),
            ("there is no INF file in", ["--driver", folder.At("noinf")]),
            ("there is no driver folder", ["--driver", folder.At("nowhere")]),
            ("is not well-formed XML", ["--answers", folder.At("bad.xml")]),
            ("there is no such file", ["--answers", folder.At("none.xml")]),
        })
        {
            var ran = Vembar.Run(["service", archive + "#1", "--in-place", .. arguments]);
            Assert.Equal(1, ran.Code);
            Assert.Contains(part, ran.Output, StringComparison.Ordinal);
        }
        Assert.Equal(before, File.ReadAllBytes(archive));
    }

    [Fact]
    public void TargetsThatCannotBeUsedAreSaid()
    {
        using var folder = new TempFolder();
        folder.Write("full/mine.txt", "mine");
        Refused(3, "is not empty", "deploy", world.Archive + "#1", folder.At("full"));
        Refused(3, "is there already, as a file or a disk", "deploy", world.Archive + "#1", folder.At("full/mine.txt"));
        Refused(3, "there is no folder", "deploy", world.Archive + "#1", folder.At("no/such"));
        // The kernel's own file system takes no files, not even root's.
        Refused(5, "cannot be written", "deploy", world.Archive + "#1", "/proc/self", "--keep-existing");
        Refused(5, "cannot be written", "capture", world.At("drivers"), "/proc/a.vmb", "--name", "x");
        Assert.Equal("mine", File.ReadAllText(folder.At("full/mine.txt")));
        var kept = Vembar.Run("deploy", world.Archive + "#1", folder.At("full"), "--keep-existing");
        Assert.Equal(0, kept.Code);
    }

    [Fact]
    public void ThingsThatOneMayNotReadAreSaid()
    {
        Assert.SkipUnless(Native.Posix.IsRoot, "needs root to become another user");
        using var folder = new TempFolder();
        folder.Write("src/open", "x");
        folder.Write("src/closed", "x");
        Tools.Run("sh", ["-c", "chmod 711 .; chmod 755 src; chmod 600 src/closed; mkdir out; chmod 777 out"], folder.Path);
        var ran = Vembar.Finish(Process.Start(new ProcessStartInfo("setpriv",
            ["--reuid=65534", "--regid=65534", "--clear-groups", "env", "HOME=/tmp", Vembar.Path, "capture", folder.At("src"),
            folder.At("out/a.vmb"), "--name", "x"])
        {
            RedirectStandardOutput = true,
            RedirectStandardError = true,
        })!);
        Assert.SkipWhen(ran.Error.Contains("dotnet", StringComparison.Ordinal), "another user cannot start the runtime here");
        Assert.Equal(5, ran.Code);
        Assert.Contains("closed", ran.Error, StringComparison.Ordinal);
        Assert.Contains("permission denied", ran.Error, StringComparison.Ordinal);
        Assert.Empty(Directory.EnumerateFileSystemEntries(folder.At("out")));
    }

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
            Refused(5, "no room left", "capture", world.At("references/lending-desk"), archive, "--name", "x");
            Assert.Empty(Directory.EnumerateFileSystemEntries(small));
            Assert.Equal(0, Vembar.Run("capture", world.At("drivers"), archive, "--name", "Drivers").Code);
            var before = File.ReadAllBytes(archive);
            Refused(5, "no room left", "capture", world.At("references/lending-desk"), archive, "--name", "x");
            Assert.Equal(before, File.ReadAllBytes(archive));
            Refused(5, "has room for", "deploy", world.Archive + "#1", Path.Combine(small, "out"));
            Refused(5, "no room left", "take", world.Archive + "#1", "Windows", "Program Files", "--to", Path.Combine(small, "taken"));
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

    [Fact]
    public void ClosedStreamsAndNamesThatAreNotUtf8Work()
    {
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
    public void WhatOthersWroteStaysUnlessSaidOtherwise()
    {
        using var folder = new TempFolder();
        var archive = world.CopyArchive(folder);
        var mine = folder.Write("mine", "precious");
        folder.Write("put.txt", "x");
        var disk = folder.Write("disk.img", new byte[4096]);
        foreach (var target in new[] { mine, archive, disk })
        {
            var bytes = File.ReadAllBytes(target);
            foreach (var command in (string[][])[
                ["service", archive + "#1", "--put", $"{folder.At("put.txt")}=put.txt", "--plan", "--report", target],
                ["drivers", world.At("drivers"), "--for", world.At("hardware"), "--trust", world.At("trust"), "--report", target],
                ["drivers", "hardware", "--model", "x", "--out", target], ["order", "schema", "--out", target],
                ["answers", "make", world.At("answers/bookmobile.yaml"), "--out", target],
                ["answers", "check", world.At("answers/lending-desk.xml"), "--hide", target],
                ["package", "make", world.At("packages/house-settings-1.0"), "--out", target], ["list", archive, "--log", target]])
                Refused(3, "is there already", command);
            Assert.Equal(bytes, File.ReadAllBytes(target));
        }
        // A page of ours is renewed, anything by request; a link stays one.
        string[] page = ["service", archive + "#1", "--put", $"{folder.At("put.txt")}=put.txt", "--plan", "--report"];
        Assert.Equal(0, Vembar.Run([.. page, folder.At("page.html")]).Code);
        Assert.Equal(0, Vembar.Run([.. page, folder.At("page.html")]).Code);
        File.CreateSymbolicLink(folder.At("link.html"), mine);
        Assert.Equal(0, Vembar.Run([.. page, folder.At("link.html"), "--overwrite"]).Code);
        Assert.StartsWith("<!doctype html>", File.ReadAllText(mine), StringComparison.Ordinal);
        Assert.NotNull(new FileInfo(folder.At("link.html")).LinkTarget);
        Assert.DoesNotContain(Directory.EnumerateFiles(folder.Path), f => Path.GetFileName(f).StartsWith('.'));
    }

    [Fact]
    public void ProgressOnATerminalTakesLargeFiles()
    {
        using var folder = new TempFolder();
        Directory.CreateDirectory(folder.At("src"));
        Tools.Run("sh", ["-c", "head -c 200000000 /dev/urandom > src/large"], folder.Path);
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

    [Fact]
    public void NamesCannotSteerTheTerminal()
    {
        using var folder = new TempFolder();
        Tools.Run("sh", ["-c", "mkdir src; : > \"$(printf 'src/\\033[2J red')\""], folder.Path);
        Vembar.Run("capture", folder.At("src"), folder.At("a.vmb"), "--name", "x");
        var files = Vembar.Run("files", folder.At("a.vmb"));
        Assert.DoesNotContain('\u001b', files.Output);
        Assert.Contains("\\u001b[2J red", files.Output, StringComparison.Ordinal);
    }
}
