using System.Diagnostics;
using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests;

/// <summary>Bad input.</summary>
public sealed class BadInputTests(World world)
{
    // One line that says what is wrong, no stack trace, the right code; with --json one document.
    [Fact]
    public void WrongCommandLinesAreSaid()
    {
        Vembar.Refused(2, "Did you mean 'capture'?", "captur");
        Vembar.Refused(2, "Did you mean '--name'?", "capture", "a", "b", "--nmae", "x");
        Vembar.Refused(2, "--name", "capture", "a", "b");
        Vembar.Refused(2, "--effort", "capture", "a", "b", "--name", "x", "--effort", "extreme");
        Vembar.Refused(2, "--wait", "drop", "a", "--wait", "soon");
        Vembar.Refused(2, "cannot be a name", "capture", world.At("drivers"), "/tmp/never.vmb", "--name", "12");
        Vembar.Refused(2, "KEY=VALUE", "capture", world.At("drivers"), "/tmp/never.vmb", "--name", "x", "--label", "novalue");
    }

    [Fact]
    [Trait("Set", "Slow")]
    public void MissingAndMistypedThingsAreSaid()
    {
        using var folder = new TempFolder();
        Vembar.Refused(3, $"Did you mean '{world.At("references/lending-desk")}'?", "capture", world.At("references/lending-dek"),
            folder.At("a.vmb"), "--name", "x");
        Vembar.Refused(3, "is an archive of images, not a disk", "capture", world.Archive, folder.At("a.vmb"), "--name", "x");
        Vembar.Refused(3, "no folder", "capture", world.At("drivers"), folder.At("no/such/a.vmb"), "--name", "x");
        Vembar.Refused(3, "there is no archive", "list", folder.At("none.vmb"));
        Vembar.Refused(3, "2: Reading room", "show", world.Archive + "#7");
        Vembar.Refused(3, "Did you mean \"Reading room\" (number 2)?", "show", world.Archive + "#Readingroom");
        Vembar.Refused(3, "holds 2 images", "show", world.Archive);
        Vembar.Refused(3, "already holds an image \"Reading room\" 2026.09 (number 2)", "capture", world.At("drivers"), world.Archive,
            "--name",
            "reading room", "--version", "2026.09");
        Vembar.Refused(3, "already holds", "service", world.Archive + "#1", "--remove", "x", "--as", "Reading room", "--version",
            "2026.09");
        Vembar.Refused(3, "no version or channel '2026.08'", "show", world.Archive + "#Reading room@2026.08");
        Vembar.Refused(2, "behind '@'", "capture", world.At("drivers"), world.Archive, "--name", "a@b");
        Vembar.Refused(2, "exclude each other", "mark", world.Archive + "#1", "--lock", "--unlock");
        Vembar.Refused(2, "not a day", "mark", world.Archive + "#1", "--retire", "soon");
        Vembar.Refused(2, "no column", "list", world.Archive, "--columns", "number,colour");
        Vembar.Refused(2, "KEY=VALUE", "list", world.Archive, "--where", "pilot");
        Vembar.Refused(2, "no archive was named", "list");
        Vembar.Refused(3, "no project file", "sites");
        Vembar.Refused(3, "leads upward", "take", world.Archive + "#1", "../etc", "--to", folder.At("out"));
        Vembar.Refused(3, "no file", "service", world.Archive + "#1", "--put", "nothing=x", "--in-place");
        Vembar.Refused(3, "work order", "service", world.Archive + "#1", "--order", folder.At("none.yaml"), "--plan");
        Vembar.Refused(3, "is a folder", "list", folder.Path);
        Vembar.Refused(2, "computer name", "deploy", world.Archive + "#1", folder.At("out"), "--computer-name", "far too long a name");
        Assert.Empty(Directory.EnumerateFileSystemEntries(folder.Path));
    }

    [Fact]
    public void WhatIsNoArchiveIsSaid()
    {
        using var folder = new TempFolder();
        Vembar.Refused(3, "is not a Vembar archive", "list", folder.Write("text.vmb", "just text, nothing else"));
        Vembar.Refused(3, "is not a Vembar archive", "list", folder.Write("empty.vmb", ""));
        var bytes = File.ReadAllBytes(world.Archive);
        Vembar.Refused(4, "cut short", "list", folder.Write("head.vmb", bytes[..40]));
        Vembar.Refused(4, "holds no complete state", "verify", folder.Write("early.vmb", bytes[..100]));
        var newer = bytes.ToArray();
        newer[8] = 9;
        Vembar.Refused(3, "archive format 9.0", "list", folder.Write("newer.vmb", newer));
        var header = bytes.ToArray();
        header[20] ^= 1;
        Vembar.Refused(4, "damaged header", "list", folder.Write("header.vmb", header));
        // Cut within the second capture: the first is there, and the tail is told.
        var end = Vembar.Run("history", world.Archive, "--json").Json.GetProperty("states")[1].GetProperty("end").GetInt32();
        var cut = folder.Write("cut.vmb", bytes[..(end + 5000)]);
        var list = Vembar.Run("list", cut);
        Assert.Equal(0, list.Code);
        Assert.Contains("belong to no finished state", list.Error, StringComparison.Ordinal);
        // All images are whole; that something was left is a fault for those alone who ask for that.
        Assert.Equal(0, Vembar.Run("verify", cut).Code);
        Assert.True(Vembar.Run("verify", cut, "--json").Json.GetProperty("ok").GetBoolean());
        Assert.Equal(1, Vembar.Run("verify", cut, "--strict").Code);
        Assert.False(Vembar.Run("verify", cut, "--strict", "--json").Json.GetProperty("ok").GetBoolean());
        // Cut within the last record's second copy, nothing is lost.
        var late = Vembar.Run("list", folder.Write("late.vmb", bytes[..^100]));
        Assert.Equal((0, true), (late.Code, late.Error.Contains("its last state is whole", StringComparison.Ordinal)));
        Assert.Equal(Vembar.Run("list", world.Archive).Output, late.Output);
        Vembar.Refused(3, "cut short or a capture into it was interrupted", "show", folder.Write("cut1.vmb", bytes[..(bytes.Length / 2)]));
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
        Vembar.Refused(4, path, "take", $"{damaged}#{image}", path, "--to", folder.At("out"));
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
        Vembar.Refused(3, "is not empty", "deploy", world.Archive + "#1", folder.At("full"));
        Vembar.Refused(3, "is there already, as a file or a disk", "deploy", world.Archive + "#1", folder.At("full/mine.txt"));
        Vembar.Refused(3, "there is no folder", "deploy", world.Archive + "#1", folder.At("no/such"));
        // The kernel's own file system takes no files, not even root's.
        Vembar.Refused(5, "cannot be written", "deploy", world.Archive + "#1", "/proc/self", "--keep-existing");
        Vembar.Refused(5, "cannot be written", "capture", world.At("drivers"), "/proc/a.vmb", "--name", "x");
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
            ["--reuid=65534", "--regid=65534", "--clear-groups", "env", $"HOME={folder.At("out")}", Vembar.Path, "capture",
            folder.At("src"), folder.At("out/a.vmb"), "--name", "x"])
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
    [Trait("Set", "Slow")]
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
                Vembar.Refused(3, "is there already", command);
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
