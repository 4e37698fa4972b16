using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests;

/// <summary>Commands that capture into archives, look into them, deploy from them and keep them in order.</summary>
public sealed class ArchiveCommandTests(World world)
{
    [Fact]
    public void ListShowsTheImagesARowEach()
    {
        var plain = Vembar.Run("list", world.Archive);
        Assert.Equal(0, plain.Code);
        var lines = plain.Output.TrimEnd('\n').Split('\n');
        Assert.Equal(3, lines.Length);
        Assert.StartsWith("No.  Name", lines[0], StringComparison.Ordinal);
        Assert.Contains("Reading room", lines[2], StringComparison.Ordinal);
        Assert.DoesNotContain('\u001b', plain.Output);
        Assert.All(lines, l => Assert.Equal(l.TrimEnd(), l));

        var json = Vembar.Run("list", world.Archive, "--json").Json;
        Assert.Equal(["archive", "id", "size", "leftOver", "basedOn", "images", "lost", "hidden"],
            json.EnumerateObject().Select(p => p.Name));
        var image = json.GetProperty("images")[0];
        foreach (var key in (string[])["number", "name", "version", "edition", "note", "labels", "product", "build", "architecture",
            "languages", "created", "root", "files", "folders", "bytes", "bytesAdded", "origin", "history"])
            Assert.True(image.TryGetProperty(key, out _), key);
        Assert.Equal("26100.4061", image.GetProperty("build").GetString());
        Assert.EndsWith("Z", image.GetProperty("created").GetString(), StringComparison.Ordinal);
        Assert.Matches("^[0-9a-f]{64}$", image.GetProperty("root").GetString());
    }

    [Fact]
    public void CaptureTellsWhatWasNewAndWhatWasLeftOut()
    {
        using var folder = new TempFolder();
        var first = Vembar.Run("capture", world.At("references/lending-desk"), folder.At("a.vmb"), "--name", "Lending desk", "--json",
            "--label", "site=valley", "--note", "for all", "--verify").Json;
        Assert.True(first.GetProperty("verified").GetBoolean());
        Assert.Equal("valley", first.GetProperty("image").GetProperty("labels").GetProperty("site").GetString());
        var stats = first.GetProperty("stats");
        Assert.Equal(["filesSeen", "filesRead", "bytesSeen", "bytesRead", "bytesNew", "bytesStored", "seconds"],
            stats.EnumerateObject().Select(p => p.Name));
        Assert.Contains(first.GetProperty("leftOut").EnumerateArray(),
            l => l.GetProperty("path").GetString() == "pagefile.sys" && l.GetProperty("rule").GetString() == "pagefile.sys");
        var second = Vembar.Run("capture", world.At("references/reading-room"), folder.At("a.vmb"), "--name", "Reading room");
        Assert.Equal(0, second.Code);
        Assert.Matches(@"were new \(\d+\.\d %\)", second.Output);
        Assert.Contains("pagefile.sys", second.Output, StringComparison.Ordinal);
        Assert.True(Vembar.Run("capture", world.At("references/lending-desk"), folder.At("a.vmb"), "--name", "Again",
            "--json").Json.GetProperty("stats").GetProperty("bytesNew").GetInt64() == 0);
    }

    [Fact]
    public void AFolderWithoutWindowsIsCapturedAndSaid()
    {
        using var folder = new TempFolder();
        folder.Write("src/file", "x");
        var ran = Vembar.Run("capture", folder.At("src"), folder.At("a.vmb"), "--name", "Files", "--edition", "Own");
        Assert.Equal(0, ran.Code);
        Assert.Contains("no Windows found", ran.Error, StringComparison.Ordinal);
        Assert.Equal("Own", Vembar.Run("show", folder.At("a.vmb"), "--json").Json.GetProperty("image").GetProperty("edition").GetString());
    }

    [Fact]
    public void ShowTellsProgramsAndHistory()
    {
        var all = Vembar.Run("show", world.Archive + "#reading ROOM");
        foreach (var text in (string[])["Windows 11 Enterprise, build 26100.4061, x64", "cy-GB, en-GB", "WIN-3M8R4RRTARN",
            "Lanternview Document Viewer", "generalized", "capture"])
            Assert.Contains(text, all.Output, StringComparison.Ordinal);
        var programs = Vembar.Run("show", world.Archive + "#2", "--only", "programs").Output.TrimEnd('\n').Split('\n');
        Assert.Equal(5, programs.Length);
        Assert.Equal(4, Vembar.Run("show", world.Archive + "#2", "--json").Json.GetProperty("programs").GetArrayLength());
        Assert.Equal(2, Vembar.Run("show", world.Archive + "#2", "--only", "everything").Code);
    }

    // The program has a kernel in a library beside it, for processors with wide vectors, and gets on without it.
    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public void HashesAreThoseOfB3sumAtEveryLength(bool withLibrary)
    {
        using var folder = new TempFolder();
        var random = new Random(23);
        foreach (var length in new[] { 0, 1, 63, 64, 65, 1023, 1024, 1025, 2048, 8 * 1024 + 1, 9 * 1024, 16 * 1024, 17 * 1024 + 5,
            64 * 1024, 65 * 1024 + 1, 700_001, 5_000_003 })
        {
            var bytes = new byte[length];
            random.NextBytes(bytes);
            File.WriteAllBytes(folder.Write($"src/{length}", ""), bytes);
        }
        var program = Vembar.Path;
        if (!withLibrary)
        {
            Tools.Run("cp", ["-r", Path.GetDirectoryName(Vembar.Path)!, folder.At("copy")]);
            File.Delete(folder.At("copy/libvembar-wide.so"));
            program = folder.At("copy/vembar");
        }
        Assert.Equal(0,
            Vembar.Finish(Vembar.Start(["capture", folder.At("src"), folder.At("a.vmb"), "--name", "x", "--quiet"],
            program: program)).Code);
        var listed = Vembar.Finish(Vembar.Start(["files", folder.At("a.vmb") + "#1", "--json"], program: program)).Json;
        var hashes = listed.GetProperty("entries").EnumerateArray()
            .ToDictionary(e => e.GetProperty("path").GetString()!, e => e.GetProperty("hash").GetString());
        foreach (var file in Directory.EnumerateFiles(folder.At("src")))
            Assert.Equal(Tools.Run("b3sum", ["--no-names", file]).Trim(), hashes[Path.GetFileName(file)]);
        Assert.Equal(0, Vembar.Finish(Vembar.Start(["verify", folder.At("a.vmb"), "--quiet"], program: program)).Code);
    }

    [Fact]
    public void FilesListsFoldersAndPatterns()
    {
        Assert.Contains("Program Files/", Vembar.Run("files", world.Archive + "#1").Output, StringComparison.Ordinal);
        var json = Vembar.Run("files", world.Archive + "#1", @"windows\system32\CONFIG\s*", "--json").Json.GetProperty("entries");
        Assert.Equal(["SAM", "SECURITY", "SOFTWARE", "SYSTEM"],
            json.EnumerateArray().Select(e => e.GetProperty("path").GetString()![24..]));
        var system = json[3];
        Assert.Equal(["path", "kind", "bytes", "modified", "attributes", "hash", "linkTarget", "streams"],
            system.EnumerateObject().Select(p => p.Name));
        var expected = Tools.Run("b3sum", ["--no-names", world.At("references/lending-desk/Windows/System32/config/SYSTEM")]).Trim();
        Assert.Equal(expected, system.GetProperty("hash").GetString());
        var wrong = Vembar.Run("files", world.Archive + "#1", "Windows/Sytem32");
        Assert.Equal(3, wrong.Code);
        Assert.Contains("Did you mean 'Windows/System32'?", wrong.Error, StringComparison.Ordinal);
        Assert.Equal(1009 + 1,
            Vembar.Run("files", world.Archive + "#1", "**").Output.Split('\n').Count(l => l.Length > 0 && !l.EndsWith('/')));
    }

    [Fact]
    public void TakePrintsAFileOrFillsAFolder()
    {
        using var folder = new TempFolder();
        var text = Vembar.Run("take", world.Archive + "#1", "Users/Public/Documents/Welcome.txt", "--to", "-");
        Assert.Equal("Welcome to Lending desk at Tarn Valley Libraries.\r\n", text.Output);
        var taken = Vembar.Run("take", world.Archive + "#1", "Program Files", "Windows/Setup", "--to", folder.At("out"), "--json");
        Assert.Equal(0, taken.Code);
        Assert.Equal("", Tools.Run("diff", ["-r", world.At("references/lending-desk/Program Files"), folder.At("out/Program Files")]));
        Assert.Equal(3, Vembar.Run("take", world.Archive + "#1", "nothing/here", "--to", folder.At("out")).Code);
        Assert.Equal(2, Vembar.Run("take", world.Archive + "#1", "a", "b", "--to", "-").Code);
    }

    [Fact]
    public void DeployCopyDropAndVerifyWorkTogether()
    {
        using var folder = new TempFolder();
        var archive = world.CopyArchive(folder);
        var deployed = Vembar.Run("deploy", archive + "#1", folder.At("out"), "--computer-name", "TVL-DESK-014", "--verify", "--json");
        Assert.Equal(0, deployed.Code);
        Assert.Equal(1010, deployed.Json.GetProperty("files").GetInt64());
        Assert.Equal(0, Vembar.Run("copy", archive + "#2", folder.At("other.vmb"), "--json").Code);
        Assert.Equal("Reading room",
            Vembar.Run("list", folder.At("other.vmb"), "--json").Json.GetProperty("images")[0].GetProperty("name").GetString());
        Assert.Equal(1, Vembar.Run("drop", archive + "#2", "--confirm", "--json").Json.GetProperty("imagesLeft").GetInt32());
        var verify = Vembar.Run("verify", archive, "--json").Json;
        Assert.True(verify.GetProperty("ok").GetBoolean());
        Assert.Equal(["archive", "ok", "blocks", "bytes", "leftOver", "seconds", "damage", "repaired", "bases", "images",
            "signatures"],
            verify.EnumerateObject().Select(p => p.Name));
        Assert.Contains("in order", Vembar.Run("verify", archive).Output, StringComparison.Ordinal);
    }

    [Fact]
    public void ADifferenceArchiveNeedsItsBaseUntilItIsCopied()
    {
        using var folder = new TempFolder();
        var archive = world.CopyArchive(folder);
        var based = folder.At("mobile.vmb");
        Assert.Equal(0,
            Vembar.Run("capture", world.At("references/bookmobile"), based, "--name", "Bookmobile", "--based-on", archive).Code);
        Assert.True(new FileInfo(based).Length * 3 < new FileInfo(archive).Length);
        Assert.Contains("Based on desks.vmb", Vembar.Run("list", based).Output, StringComparison.Ordinal);
        Assert.Equal("desks.vmb", Vembar.Run("list", based, "--json").Json.GetProperty("basedOn")[0].GetProperty("name").GetString());
        Assert.Contains("which holds all that is needed", Vembar.Run("verify", based).Output, StringComparison.Ordinal);
        Directory.CreateDirectory(folder.At("away"));
        File.Move(archive, folder.At("away/desks.vmb"));
        var missing = Vembar.Run("deploy", based, folder.At("out"));
        Assert.Equal(3, missing.Code);
        Assert.Contains("stores only what its base 'desks.vmb'", missing.Error, StringComparison.Ordinal);
        Assert.Contains("--base PATH", missing.Error, StringComparison.Ordinal);
        Assert.Equal("base-missing", Vembar.Run("verify", based, "--json").JsonError.GetProperty("code").GetString());
        foreach (var place in (string[])["away", "away/desks.vmb"])
            Assert.Equal(0, Vembar.Run("verify", based, "--base", folder.At(place)).Code);
        Assert.Equal(0, Vembar.Run("deploy", based, folder.At("out"), "--base", folder.At("away"), "--verify").Code);
        Assert.Equal(0, Vembar.Run("copy", based, folder.At("alone.vmb"), "--base", folder.At("away")).Code);
        Assert.Equal(0, Vembar.Run("deploy", folder.At("alone.vmb"), folder.At("again"), "--verify").Code);
        Assert.Equal("", Tools.Run("diff", ["-r", folder.At("out"), folder.At("again")]));
        var not = Vembar.Run("capture", world.At("drivers"), folder.At("alone.vmb"), "--name", "x", "--based-on",
            folder.At("away/desks.vmb"));
        Assert.Equal(3, not.Code);
        Assert.Contains("settled when an archive is made", not.Error, StringComparison.Ordinal);
    }

    [Fact]
    public void StatesAreListedRewoundRetitledAndCompacted()
    {
        using var folder = new TempFolder();
        var archive = world.CopyArchive(folder);
        Assert.Contains("is now \"Pilot\" 7", Vembar.Run("retitle", archive + "#2", "--name", "Pilot", "--version", "7").Output,
            StringComparison.Ordinal);
        Assert.Equal(0, Vembar.Run("drop", archive + "#Pilot", "--confirm").Code);
        var history = Vembar.Run("history", archive, "--json").Json.GetProperty("states");
        Assert.Equal(["new", "capture 1 Lending desk 2026.09", "capture 2 Reading room 2026.09", "retitle 2 Pilot 7", "drop 2 Pilot 7"],
            history.EnumerateArray().Select(h => h.GetProperty("change").GetString()));
        Assert.Equal(6, Vembar.Run("history", archive).Output.TrimEnd('\n').Split('\n').Length);
        Assert.Contains("Reading room", Vembar.Run("rewind", archive, "--to", "2").Output, StringComparison.Ordinal);
        Assert.Equal(3, Vembar.Run("rewind", archive, "--to", "40").Code);
        Assert.Equal(2, Vembar.Run("rewind", archive).Code);
        Assert.Equal(2, Vembar.Run("list", archive, "--json").Json.GetProperty("images").GetArrayLength());
        var compact = Vembar.Run("compact", archive, "--confirm", "--json").Json;
        Assert.True(compact.GetProperty("bytes").GetInt64() <= compact.GetProperty("bytesBefore").GetInt64());
        Assert.Equal(2, Vembar.Run("history", archive, "--json").Json.GetProperty("states").GetArrayLength());
    }

    [Fact]
    public void DiffTellsFilesRegistryAndPrograms()
    {
        var json = Vembar.Run("diff", world.Archive + "#1", world.Archive + "#2", "--json").Json;
        Assert.Equal(["from", "to", "same", "added", "removed", "changed", "registry", "programs", "drivers", "packages", "features"],
            json.EnumerateObject().Select(p => p.Name));
        var plain = Vembar.Run("diff", world.Archive + "#1", world.Archive + "#2").Output;
        Assert.Contains("+ Lanternview Document Viewer 2.6", plain, StringComparison.Ordinal);
        Assert.Contains("- Shelfmark Lending Client 7.3.1", plain, StringComparison.Ordinal);
        Assert.Contains("* SYSTEM\\ControlSet001\\Control\\ComputerName\\ComputerName  (ComputerName)", plain, StringComparison.Ordinal);
        Assert.Contains("are the same", Vembar.Run("diff", world.Archive + "#1", world.Archive + "#1").Output, StringComparison.Ordinal);
    }

    [Fact]
    public void DamageIsHealedAndRecovered()
    {
        using var folder = new TempFolder();
        var bytes = File.ReadAllBytes(world.Archive);
        bytes[bytes.Length / 3] ^= 4;
        var damaged = folder.Write("damaged.vmb", bytes);
        var recovered = Vembar.Run("verify", damaged, "--recover", folder.At("saved.vmb"), "--json");
        Assert.Equal(1, recovered.Code);
        Assert.True(recovered.Json.GetProperty("lost").GetArrayLength() > 0);
        Assert.Equal(0, Vembar.Run("verify", folder.At("saved.vmb")).Code);
        var healed = Vembar.Run("verify", damaged, "--repair-from", world.Archive, "--json");
        Assert.Equal(0, healed.Code);
        Assert.True(healed.Json.GetProperty("repaired").GetArrayLength() > 0);
        Assert.Equal(2, Vembar.Run("verify", damaged, "--repair-from", "x", "--recover", "y").Code);
        Assert.Equal(3, Vembar.Run("verify", damaged, "--repair-from", folder.At("none.vmb")).Code);
    }

    // What is done to several at once, and what only answers with its exit code.
    [Fact]
    public void SeveralAreVerifiedAndDroppedAndQuietIsQuiet()
    {
        using var folder = new TempFolder();
        var archive = world.CopyArchive(folder);
        File.WriteAllText(folder.At("none.vmb"), "nothing");
        var both = Vembar.Run("verify", archive, folder.At("none.vmb"), "--json");
        Assert.Equal((3, 1), (both.Code, both.Json.GetArrayLength()));
        Assert.Contains("not a Vembar archive", both.Error, StringComparison.Ordinal);
        Assert.Equal(2, Vembar.Run("verify", archive, archive, "--give-up-newer").Code);
        Assert.Equal((1, ""), (Vembar.Run("diff", archive + "#1", archive + "#2", "--exit-code", "-q").Code,
            Vembar.Run("diff", archive + "#1", archive + "#2", "-q").Output));
        Assert.Equal(0, Vembar.Run("diff", archive + "#1", archive + "#1", "--exit-code").Code);
        Assert.Equal(["Windows/System32/config/SAM", "Windows/System32/config/SYSTEM"],
            Vembar.Run("files", archive + "#1", "Windows/System32/config/S*M", "--paths").Output.Split('\n',
                StringSplitOptions.RemoveEmptyEntries).Order());
        Assert.Equal(("", ""), (Vembar.Run("list", archive, archive, "-q").Output, Vembar.Run("help", "--man-pages", folder.At("man"), "-q")
            .Output));
        // What stands behind "--" is no option.
        Assert.Equal((3, true), (Vembar.Run("files", archive + "#1", "--", "-odd").Code,
            Vembar.Run("files", archive + "#1", "--", "-odd").Error.Contains("has no '-odd'", StringComparison.Ordinal)));
        // None goes where one is not there.
        Assert.Equal(3, Vembar.Run("drop", archive + "#1", archive + "#9", "--confirm").Code);
        Assert.Equal(2, Vembar.Run("drop", archive + "#1", archive + "#2").Code);
        Assert.Equal(2, Vembar.Run("list", archive, "--json").Json.GetProperty("images").GetArrayLength());
        var dropped = Vembar.Run("drop", archive + "#2", archive + "#last", archive + "#1", "--confirm", "--json");
        Assert.Equal((0, 2), (dropped.Code, dropped.Json.GetArrayLength()));
        Assert.Equal(0, Vembar.Run("list", archive, "--json").Json.GetProperty("images").GetArrayLength());
    }
}
