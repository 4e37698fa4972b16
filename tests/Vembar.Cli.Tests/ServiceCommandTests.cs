using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests;

/// <summary>Commands that change images: orders, packages, drivers, workspaces.</summary>
public sealed class ServiceCommandTests(World world)
{
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
}
