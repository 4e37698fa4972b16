using System.Text.Json;
using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests;

public class CommandTests(World world)
{
    private static readonly string[] s_commands = ["survey", "ready", "capture", "list", "show", "files", "take", "diff", "verify", "copy",
        "retitle", "mark", "drop", "history", "rewind", "compact", "service", "order", "workspace", "drivers", "package", "features",
        "answers", "check", "sign", "init", "sites", "sync", "login", "logout", "cache", "deploy", "demo", "completion",
        "build", "builds", "recipe"];

    [Fact]
    public void PackagesAreShownWithTheirFeaturesAndCommands()
    {
        using var folder = new TempFolder();
        var archive = world.CopyArchive(folder);
        var package = world.At("packages/shelfmark-7.4.zip");
        Assert.Matches("(?m)^Program Files/Tarn Valley/Shelfmark/labels/labels.dll +labels/labels.dll$",
            Vembar.Run("package", "show", package).Output);
        var unmade = Vembar.Run("package", "check", world.At("packages/shelfmark-7.4"));
        Assert.Equal((1, true), (unmade.Code, unmade.Output.Contains("'vembar package make' writes them", StringComparison.Ordinal)));
        var done = Vembar.Run("service", archive + "#1", "--package", package, "--feature", "Lending.Labels=on", "--report",
            folder.At("page.html"), "--in-place");
        Assert.Equal(0, done.Code);
        Assert.Equal("done", Tools.Run("xmllint", ["--html", "--xpath", "string(//tbody/tr[1]/td[3])", folder.At("page.html")]).Trim());
        // Parents stand above what needs them, in both commands.
        foreach (var shown in new[] { Vembar.Run("features", archive + "#1"), Vembar.Run("show", archive + "#1", "--only", "features") })
            Assert.Matches("(?s)Lending  .*\n  Lending.Print  .*\n    Lending.Labels  ", shown.Output);
        Assert.Matches("(?m)^Shelfmark database +\"%ProgramFiles%", Vembar.Run("show", archive + "#1", "--only", "first-start").Output);
        Assert.Matches("(?m)^shelfmark +7.4 .* in use$", Vembar.Run("show", archive + "#1", "--only", "packages").Output);
        // What would help is in the words of this program.
        Assert.Contains("need it; --with-dependents switches them off too",
            Vembar.Run("service", archive + "#1", "--feature", "Lending=off", "--plan").Output, StringComparison.Ordinal);
        Assert.Equal(2, Vembar.Run("service", archive + "#1", "--feature", "Lending", "--plan").Code);
        Assert.Equal(2, Vembar.Run("service", archive + "#1", "--for", world.At("hardware"), "--plan").Code);
        Assert.Equal(1, Vembar.Run("service", archive + "#1", "--registry", world.At("house/opening-hours.txt"), "--plan").Code);
    }

    [Fact]
    public void AnImageIsCheckedAndMended()
    {
        using var folder = new TempFolder();
        var archive = world.CopyArchive(folder);
        Assert.Equal(0, Vembar.Run("ready", archive + "#1").Code);
        Assert.Equal(2, Vembar.Run("ready", archive + "#1", "--volume", "1").Code);
        var answers = folder.Write("left.xml", File.ReadAllText(world.At("answers/lending-desk.xml")));
        Assert.Equal(0, Vembar.Run("service", archive + "#1", "--put", $"{answers}=Windows/Panther/Unattend/left.xml", "--in-place").Code);
        var found = Vembar.Run("ready", archive + "#1");
        Assert.Equal((0, true),
            (found.Code, found.Output.Contains($"In the image itself: vembar service {archive}#1 --mend answer-file-left --in-place",
            StringComparison.Ordinal)));
        var plan = Vembar.Run("service", archive + "#1", "--mend", "answer-file-left", "--mend", "domain-member", "--tidy", "dumps",
            "--plan");
        Assert.Equal((1, true), (plan.Code, plan.Output.Contains("1 refused: mend domain-member; 1 already.", StringComparison.Ordinal)));
        Assert.Contains("1 to do, 1 already; -", Vembar.Run("service", archive + "#1", "--mend", "answer-file-left", "--tidy", "dumps",
            "--plan").Output, StringComparison.Ordinal);
        Assert.Equal(0, Vembar.Run("service", archive + "#1", "--mend", "all", "--in-place").Code);
        Assert.DoesNotContain("answer-file-left", Vembar.Run("ready", archive + "#1", "--json").Output, StringComparison.Ordinal);
    }

    [Fact]
    public void OrdersAreStartedAndAddedDriversListed()
    {
        using var folder = new TempFolder();
        var archive = world.CopyArchive(folder);
        var order = folder.At("new.yaml");
        Assert.Matches("lists 2 changes.* Read it through, then: vembar order check ",
            Vembar.Run("order", "init", world.At("drivers/corrin-storage"), world.At("house"), world.At("trust"), "--out",
            order).Output.Replace("3 changes", "2 changes", StringComparison.Ordinal));
        Assert.Equal(0, Vembar.Run("order", "check", order).Code);
        Assert.Equal("No driver was added to the image.\n", Vembar.Run("drivers", "--image", archive + "#1").Output);
        Assert.Equal(0, Vembar.Run("service", archive + "#1", "--driver", world.At("drivers/corrin-storage"), "--trust", world.At("trust"),
            "--in-place").Code);
        var drivers = Vembar.Run("drivers", "--image", archive + "#1", "--trust", world.At("trust"));
        Assert.Equal(0, drivers.Code);
        Assert.Matches(@"(?m)^oem0.inf \(corstor.inf\) +SCSIAdapter .* signed +boot-critical$", drivers.Output);
        Assert.Contains("- driver: ", Vembar.Run("order", "init", archive + "#1").Output, StringComparison.Ordinal);
        Assert.Equal(2, Vembar.Run("order", "init", archive + "#1", world.At("house")).Code);
        Assert.Equal(3, Vembar.Run("order", "init", folder.At("none")).Code);
        // What people wrote is not written over.
        var own = folder.Write("own.yaml", "mine\n");
        Assert.NotEqual(0, Vembar.Run("order", "init", world.At("house"), "--out", own).Code);
        Assert.Equal("mine\n", File.ReadAllText(own));
    }

    [Fact]
    public void AnOrderIsCheckedPlannedAndMadeWithItsVariables()
    {
        using var folder = new TempFolder();
        var archive = world.CopyArchive(folder);
        var order = world.At("orders/reading-room.yaml");
        Assert.Matches("\"Reading room, May\"\\) can be used: 16 changes, 12 files beside it; month is 'May', language is 'cy-GB'",
            Vembar.Run("order", "check", order, "--set", "month=May").Output);
        Assert.Equal(2, Vembar.Run("order", "check", order, "--set", "moth=May").Code);
        Assert.Equal(2, Vembar.Run("service", archive + "#1", "--put", $"{order}=x", "--set", "month=May", "--plan").Code);
        Assert.Equal(1, Vembar.Run("order", "check", folder.Write("o.yaml", "changes:\n  - driver: none\n")).Code);
        Assert.Equal(0, Vembar.Run("order", "schema", "--out", folder.At("s.json")).Code);
        Assert.StartsWith("{\n  \"$schema\"", File.ReadAllText(folder.At("s.json")), StringComparison.Ordinal);
        // The lending desk does not speak Welsh; Polish comes with the order.
        var refused = Vembar.Run("service", archive + "#1", "--order", order, "--plan");
        Assert.Equal((1, true),
            (refused.Code, refused.Output.Contains("the image does not have the language cy-GB", StringComparison.Ordinal)));
        var done = Vembar.Run("service", archive + "#1", "--order", order, "--set", "language=pl-PL", "--as", "Kiosk");
        Assert.Equal(0, done.Code);
        Assert.Matches("(?m)^display +pl-PL$", Vembar.Run("show", archive + "#Kiosk", "--only", "languages").Output);
        Assert.Matches("by reading-room.yaml \"Reading room, September 2026\", [0-9a-f]{16}…",
            Vembar.Run("show", archive + "#Kiosk", "--only", "history").Output);
        Assert.Matches("(?m)^Demo.Calculator ", Vembar.Run("show", archive + "#Kiosk", "--only", "apps").Output);
        Assert.Matches("(?m)^logs +logs of set-up.* nothing$", Vembar.Run("show", archive + "#Kiosk", "--only", "tidy").Output);
        Assert.Equal(3, Vembar.Run("deploy", archive + "#Kiosk", folder.At("d.img"), "--size", "2 GiB").Code);
        Assert.Equal(0, Vembar.Run("deploy", archive + "#Kiosk", folder.At("out"), "--fill", "desk=014").Code);
        Assert.Equal(0, Vembar.Run("service", archive + "#1", "--locale", "user=en-IE", "--time-zone", "UTC", "--tidy", "logs", "--tidy",
            "dumps", "--ballast", world.At("house/ballast.yaml"), "--in-place").Code);
        Assert.Equal(2, Vembar.Run("service", archive + "#1", "--merge", "--tidy", "logs", "--plan").Code);
    }

    [Fact]
    public void ErrorsNameThisProgramsOptions()
    {
        using var folder = new TempFolder();
        var archive = world.CopyArchive(folder);
        var disk = folder.Write("disk.img", new byte[1 << 20]);
        string Error(params string[] arguments) => Vembar.Run(arguments).Error;
        Assert.Contains($"the target '{disk}' is there already, and --size makes a new disk image\nName a file that is not there",
            Error("deploy", archive + "#1", disk, "--size", "2 GiB").Replace("  ", "", StringComparison.Ordinal), StringComparison.Ordinal);
        Assert.Contains("--volume deploys into a volume as it is; --size, --layout and --erase make the disk anew",
            Error("deploy", archive + "#1", disk, "--volume", "1", "--erase"), StringComparison.Ordinal);
        Assert.Equal(0, Vembar.Run("workspace", "open", archive + "#1", folder.At("work"), "--only", "Windows/Web").Code);
        Assert.Equal(0, Vembar.Run("capture", world.At("references/bookmobile"), archive, "--name", "Other").Code);
        Assert.Equal(0, Vembar.Run("drop", archive + "#1", "--confirm").Code);
        var status = Vembar.Run("workspace", "status", folder.At("work"), "--json");
        Assert.EndsWith("was dropped since; save it with --as", status.Json.GetProperty("warnings")[0].GetString(),
            StringComparison.Ordinal);
    }

    [Fact]
    public void AWorkspaceIsOpenedChangedSavedAndClosed()
    {
        using var folder = new TempFolder();
        var archive = world.CopyArchive(folder);
        var w = folder.At("w");
        Assert.Contains("lies open in", Vembar.Run("workspace", "open", archive + "#1", w, "--only", "Users").Output,
            StringComparison.Ordinal);
        Assert.StartsWith("Nothing was changed; it is image 1 \"Lending desk\"", Vembar.Run("workspace", "status", w).Output,
            StringComparison.Ordinal);
        File.AppendAllText(Path.Combine(w, "Users/Public/Documents/Welcome.txt"), "more");
        Assert.Matches("(?m)^changed +Users/Public/Documents/Welcome.txt +content +\\+4 bytes$",
            Vembar.Run("workspace", "status", w).Output);
        Assert.Equal(2, Vembar.Run("workspace", "save", w).Code);
        Assert.Equal(2, Vembar.Run("workspace", "save", w, "--as", "x", "--in-place").Code);
        Assert.Equal(3, Vembar.Run("workspace", "close", w).Code);
        var saved = Vembar.Run("workspace", "save", w, "--as", "By hand", "--json").Json;
        Assert.Equal(("By hand", 1L), (saved.GetProperty("image").GetProperty("name").GetString(),
            saved.GetProperty("workspace").GetProperty("filesRead").GetInt64()));
        Assert.EndsWith("more", Vembar.Run("take", archive + "#By hand", "Users/Public/Documents/Welcome.txt", "--to", "-").Output,
            StringComparison.Ordinal);
        folder.Write("w/Users/a:b", "x");
        var status = Vembar.Run("workspace", "status", w);
        Assert.Equal((1, true),
            (status.Code, status.Output.Contains("In the way of saving: 'Users/a:b' has a name", StringComparison.Ordinal)));
        Assert.Equal(0, Vembar.Run("workspace", "close", w, "--lose-changes").Code);
        Assert.False(Directory.Exists(w));
        Assert.Equal(3, Vembar.Run("workspace", "status", w).Code);
    }

    [Fact]
    public void CoverageIsToldAsAMatrixAndAsAPage()
    {
        using var folder = new TempFolder();
        string[] asked = ["drivers", world.At("drivers"), "--for", world.At("hardware"), "--trust", world.At("trust"), "--report",
            folder.At("page.html")];
        var gap = Vembar.Run(asked);
        Assert.Equal(1, gap.Code);
        Assert.Matches("(?m)^Corrin CW-7 wireless adapter +NONE, needed +- +-$", gap.Output);
        Assert.Contains("Fellside T2: no driver for Corrin CW-7 wireless adapter, which is needed", gap.Output, StringComparison.Ordinal);
        var page = Tools.Run("xmllint", ["--html", "--xpath", "string(//tbody/tr[1])", folder.At("page.html")]);
        Assert.Contains("Corrin CW-7 wireless adapterNONE, neededPCI\\VEN_F1C0&DEV_7700", page, StringComparison.Ordinal);
        var whole = Vembar.Run([.. asked, "--image", world.Archive + "#1", .. new[] { world.At("more-drivers") }]);
        Assert.Equal((0, true), (whole.Code, whole.Output.Contains("all have a driver", StringComparison.Ordinal)));
        Assert.Equal(2, Vembar.Run("drivers").Code);
        Assert.Equal(2, Vembar.Run("drivers", "--for", world.At("hardware")).Code);
        Assert.Equal(2, Vembar.Run("drivers", world.At("drivers"), "--report", folder.At("x")).Code);
        Assert.Equal(3, Vembar.Run("drivers", world.At("drivers"), "--trust", folder.At("none.pem")).Code);
        Assert.Equal(3, Vembar.Run("drivers", world.At("drivers"), world.At("house")).Code);
        var refused = Vembar.Run("service", world.Archive + "#1", "--driver", world.At("drivers/pell-barcode"), "--plan");
        Assert.Contains("Name the certificates that you trust with --trust", refused.Output, StringComparison.Ordinal);
        Assert.Equal(0,
            Vembar.Run("service", world.Archive + "#1", "--driver", world.At("drivers/pell-barcode"), "--allow-unsigned", "--plan").Code);
    }

    [Fact]
    public void EveryCommandHasHelpWithExamples()
    {
        var overview = Vembar.Run("--help");
        Assert.DoesNotContain("/?", overview.Output, StringComparison.Ordinal);
        Assert.Equal(overview.Output, Vembar.Run("help").Output);
        Assert.Equal(Vembar.Run("capture", "--help").Output, Vembar.Run("help", "capture").Output);
        Assert.Equal(Vembar.Run("workspace", "close", "-h").Output, Vembar.Run("help", "workspace", "close").Output);
        Assert.Equal((2, true),
            (Vembar.Run("help", "captur").Code,
            Vembar.Run("help", "captur").Error.Contains("Did you mean 'capture'?", StringComparison.Ordinal)));
        Assert.Equal((2, 2), (Vembar.Run("history", "x", "/?").Code, Vembar.Run("/h").Code));
        // A command below another is named whole.
        Assert.Contains("See `vembar starter use --help`.", Vembar.Run("starter", "use", "x", "--channel", "fast").Error,
            StringComparison.Ordinal);
        Assert.Equal(0, overview.Code);
        foreach (var command in s_commands)
        {
            Assert.Contains($"\n  {command} ", overview.Output, StringComparison.Ordinal);
            var help = Vembar.Run(command, "--help");
            Assert.Equal(0, help.Code);
            Assert.Contains("Examples:\n  ", help.Output, StringComparison.Ordinal);
            Assert.Contains($"vembar {command}", help.Output, StringComparison.Ordinal);
        }
        Assert.Matches(@"^vembar \d+\.\d+\.\d+( \([0-9a-f]{12}\))?\nlibzstd \d.*, libntfs-3g \d.*\n$", Vembar.Run("--version").Output);
        Assert.Matches(@"^\d+\.", Vembar.Run("--version", "--json").Json.GetProperty("libraries").GetProperty("libarchive").GetString());
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

    [Fact]
    public void EveryOptionOfTheReadmesTourExists()
    {
        var readme = File.ReadAllText(Path.Combine(Vembar.Repository, "README.md"));
        foreach (var line in readme.Split('\n')
            .Where(l => l.StartsWith("vembar ", StringComparison.Ordinal) || l.StartsWith("$ vembar ", StringComparison.Ordinal)))
        {
            var words = line.TrimStart('$', ' ').Split(' ');
            string[] command = words[1] is "workspace" or "order" or "package" or "answers" or "starter" or "station" or "userdata"
                or "recipe" ? [words[1], words[2]] : [words[1]];
            var help = Vembar.Run([.. command, "--help"]).Output;
            Assert.All(words.Where(w => w.StartsWith("--", StringComparison.Ordinal)),
                option => Assert.Contains(option, help, StringComparison.Ordinal));
        }
    }

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
    public void ServiceTellsEachOutcomeAndRefusesWhole()
    {
        using var folder = new TempFolder();
        var archive = world.CopyArchive(folder);
        var done = Vembar.Run("service", archive + "#1", "--driver", world.At("drivers/corrin-storage"), "--trust", world.At("trust"),
            "--answers", world.At("answers/lending-desk.xml"), "--as", "Serviced", "--json");
        Assert.Equal(0, done.Code);
        Assert.Equal(["done", "done"], done.Json.GetProperty("changes").EnumerateArray().Select(c => c.GetProperty("status").GetString()));
        Assert.Equal(3, done.Json.GetProperty("image").GetProperty("number").GetInt32());
        var again = Vembar.Run("service", archive + "#Serviced", "--driver", world.At("drivers/corrin-storage"), "--trust",
            world.At("trust"), "--in-place");
        Assert.Contains("already", again.Output, StringComparison.Ordinal);
        Assert.Contains("Nothing had to be changed", again.Output, StringComparison.Ordinal);
        var refused = Vembar.Run("service", archive + "#1", "--driver", world.At("answers"), "--remove", "Windows/Panther", "--in-place");
        Assert.Equal(1, refused.Code);
        Assert.Contains("refused", refused.Output, StringComparison.Ordinal);
        Assert.Contains("nothing was written", refused.Output, StringComparison.Ordinal);
        var plan = Vembar.Run("service", archive + "#2", "--order", world.At("orders/reading-room.yaml"), "--plan");
        Assert.Equal(0, plan.Code);
        Assert.Contains("would be done", plan.Output, StringComparison.Ordinal);
        Assert.Equal(2, Vembar.Run("service", archive + "#1", "--remove", "x").Code);
        Assert.Equal(2, Vembar.Run("service", archive + "#1", "--remove", "x", "--as", "y", "--in-place").Code);
        Assert.Equal(2, Vembar.Run("service", archive + "#1", "--in-place").Code);
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

    [Fact]
    public void SurveySaysWhatThereIs()
    {
        var json = Vembar.Run("survey", world.At("references/bookmobile"), "--json").Json;
        Assert.Equal(["source", "disk", "volumes", "warnings"], json.EnumerateObject().Select(p => p.Name));
        Assert.Equal("generalized", json.GetProperty("volumes")[0].GetProperty("windows").GetProperty("state").GetString());
        Assert.Contains("A capture would take", Vembar.Run("survey", world.At("references/bookmobile")).Output, StringComparison.Ordinal);
        Assert.Contains("No Windows was found", Vembar.Run("survey", world.At("drivers")).Output, StringComparison.Ordinal);
    }

    [Fact]
    public void TheDemoTellsItsStory()
    {
        using var folder = new TempFolder();
        var demo = Vembar.Run("demo", folder.At("world"), "--json");
        Assert.Equal(0, demo.Code);
        Assert.All(demo.Json.GetProperty("checks").EnumerateArray(), c => Assert.True(c.GetProperty("ok").GetBoolean(), c.ToString()));
        Assert.True(demo.Json.GetProperty("checks").GetArrayLength() > 12);
        Assert.Equal(3, Vembar.Run("demo", folder.At("world")).Code);
    }

    [Fact]
    public void CompletionKnowsCommandsAndOptions()
    {
        Assert.Contains("capture", Vembar.Run("[suggest:9]", "vembar ca").Output, StringComparison.Ordinal);
        Assert.Contains("--effort", Vembar.Run("[suggest:18]", "vembar capture --e").Output, StringComparison.Ordinal);
        foreach (var shell in (string[])["bash", "zsh", "fish"])
            Assert.Contains("vembar", Vembar.Run("completion", shell).Output, StringComparison.Ordinal);
        Tools.Run("bash", ["-n", "-c", Vembar.Run("completion", "bash").Output]);
    }

    [Fact]
    public void TheLogTellsWhatWasDone()
    {
        using var folder = new TempFolder();
        var archive = world.CopyArchive(folder);
        Vembar.Run("service", archive + "#1", "--remove", "Windows/Panther/setupact.log", "--in-place", "--log", folder.At("run.log"));
        var lines = File.ReadAllLines(folder.At("run.log")).Select(l => JsonDocument.Parse(l).RootElement).ToList();
        Assert.Contains(lines,
            l => l.TryGetProperty("Message", out var m) && m.GetString()!.Contains("setupact.log: Done", StringComparison.Ordinal));
        Assert.Equal(0, lines[^1].GetProperty("ExitCode").GetInt32());
        Assert.Equal(3, Vembar.Run("list", archive, "--log", folder.At("no/such/folder/log")).Code);
    }

    [Fact]
    public void ColourIsForTerminalsAndCanBeTurnedOff()
    {
        // script(1) gives the program a terminal.
        string OnTerminal(string before, string more) =>
            Tools.Run("script", ["-qec", $"env -u NO_COLOR {before} {Vembar.Path} list {world.Archive} {more}", "/dev/null"]);
        const string Style = "\u001b\\[[0-9;]+m";
        Assert.Matches(Style, OnTerminal("TERM=xterm-256color", ""));
        Assert.DoesNotMatch(Style, OnTerminal("TERM=xterm-256color NO_COLOR=1", ""));
        Assert.DoesNotMatch(Style, OnTerminal("TERM=xterm-256color", "--plain"));
    }
}
