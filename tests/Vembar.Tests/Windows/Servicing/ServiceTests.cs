using Vembar.Common;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.Service;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Answers;
using Vembar.Windows.Servicing.Files;
using Vembar.Windows.Servicing.Orders;
using Xunit;

namespace Vembar.Tests;

public class ServiceTests(DemoFixture demo)
{
    private static ChangeStatus[] Statuses(ServiceResult result) => [.. result.Changes.Select(c => c.Status)];

    [Fact]
    public void WhatIsSaidOfTheResultNeedsNoSecondCommand()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var change = new PutChange(folder.Write("a.txt", "a"), "a.txt");
        ImageRecord Run(string? name, ImageTitle title) => Do.Service(
            new ServiceRequest
            {
                Image = ImageReference.Parse(archive + "#1"),
                Changes = [change],
                As = name,
                InPlace = name is null,
                Title = title,
            }, NoProgress.Instance, CancellationToken.None).Image;
        var made = Run("two", new ImageTitle
        {
            Version = "2026.11",
            Note = "for the pilot",
            Labels = new Dictionary<string, string> { ["ring"] = "pilot" },
        });
        Assert.Equal(("2026.11", "for the pilot", "pilot"), (made.Version, made.Note, made.Labels["ring"]));
        // The image itself keeps what was said of it, but for what is said now, also when its files are so already.
        Assert.Equal("", Run(null, new ImageTitle()).Note);
        Assert.Equal("kept", Run(null, new ImageTitle { Note = "kept" }).Note);
        Assert.Equal("kept", Run(null, new ImageTitle { Version = "9" }).Note);
    }

    [Fact]
    public void ABootCriticalDriverIsStagedRegisteredAndInstalled()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var result = Do.Service(archive, "serviced", demo.Add(demo.Driver("corrin-storage")), demo.Add(demo.Driver("corrin-network")));
        Assert.Equal([ChangeStatus.Done, ChangeStatus.Done], Statuses(result));
        Do.Deploy(archive + "#serviced", folder.At("out"));
        var windows = folder.At("out/Windows");
        var store = Directory.EnumerateDirectories(Path.Combine(windows, "System32/DriverStore/FileRepository"), "corstor.inf_amd64_*")
            .Single();
        Assert.Equal(["corstor.cat", "corstor.inf", "x64"],
            Directory.EnumerateFileSystemEntries(store).Select(Path.GetFileName).Order(StringComparer.Ordinal));
        Assert.Equal(File.ReadAllBytes(Path.Combine(demo.Driver("corrin-storage"), "corstor.inf")),
            File.ReadAllBytes(Path.Combine(windows, "INF/oem0.inf")));
        Assert.Equal(File.ReadAllBytes(Path.Combine(demo.Driver("corrin-storage"), "x64/corstor.sys")),
            File.ReadAllBytes(Path.Combine(windows, "System32/drivers/corstor.sys")));
        Assert.False(File.Exists(Path.Combine(windows, "System32/drivers/cornet.sys")));

        var seen = Tools.Run("reglookup", [Path.Combine(windows, "System32/config/SYSTEM")]);
        var name = Path.GetFileName(store);
        Assert.Contains($"/DriverDatabase/DriverInfFiles/oem0.inf/Active,SZ,{name}", seen, StringComparison.Ordinal);
        Assert.Contains($"/DriverDatabase/DriverPackages/{name}/Configurations/CorStor_Inst.NTamd64/Service,SZ,corstor", seen,
            StringComparison.Ordinal);
        Assert.Contains("/DriverDatabase/DeviceIds/PCI/VEN_F1C0&DEV_0410/oem0.inf,BINARY,%01%FF%00%00", seen, StringComparison.Ordinal);
        Assert.Contains("/ControlSet001/Services/corstor/Start,DWORD,0x00000000", seen, StringComparison.Ordinal);
        Assert.Contains("/ControlSet001/Services/corstor/ImagePath,EXPAND_SZ,System32\\drivers\\corstor.sys", seen,
            StringComparison.Ordinal);
        Assert.Contains("/ControlSet001/Services/corstor/Parameters/PnpInterface/5,DWORD,0x00000001", seen, StringComparison.Ordinal);
        Assert.DoesNotContain("/ControlSet001/Services/cornet", seen, StringComparison.Ordinal);
        var version = Tools.Run("reglookup",
            ["-t", "BINARY", "-p", $"/DriverDatabase/DriverPackages/{name}", Path.Combine(windows, "System32/config/SYSTEM")]);
        Assert.Contains("%00%FF%09%00", version, StringComparison.Ordinal);

        var shown = Do.Show(ImageReference.Parse(archive + "#serviced"));
        Assert.Equal(["oem0.inf corstor.inf 4.2.118.0 2026-03-17", "oem1.inf cornet.inf 2.10.3.7 2026-05-04"],
            shown.Drivers!.Select(d => $"{d.Inf} {d.OriginalInf} {d.Version} {d.Date:yyyy-MM-dd}"));
        Assert.Equal(5, shown.Drivers![0].Ids.Count);
        Assert.Contains("service", shown.Image.History[^1].Action, StringComparison.Ordinal);
        Assert.True(Do.Verify(archive).Ok);
    }

    [Fact]
    public void TheSameAgainSaysAlreadyAndAddsNothing()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var put = folder.Write("hours.txt", "9 to 6");
        IChange[] changes = [demo.Add(demo.At("drivers")), new AnswersChange(demo.At("answers/lending-desk.xml")),
            new PutChange(put, "Users/Public/"), new RemoveChange("Windows/Panther/setupact.log")];
        var first = Do.Service(archive, null, changes);
        Assert.All(Statuses(first), s => Assert.Equal(ChangeStatus.Done, s));
        var bytes = File.ReadAllBytes(archive);
        var second = Do.Service(archive, null, changes);
        Assert.All(Statuses(second), s => Assert.Equal(ChangeStatus.Already, s));
        Assert.False(second.Written);
        Assert.Equal(bytes, File.ReadAllBytes(archive));
        // Figures stay true: counted again from the tree.
        var files = Do.WithTree(archive, 1, t => t.Walk(t.Root, WindowsPath.Root).Select(e => e.Entry).ToList());
        Assert.Equal(files.Count(f => f.Kind != EntryKind.Folder), first.Image.Files);
        Assert.Equal(files.Count(f => f.Kind == EntryKind.Folder) + 1, first.Image.Folders);
    }

    [Fact]
    public void ARefusedChangeHoldsBackAllOthers()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var before = File.ReadAllBytes(archive);
        folder.Write("drv/x.inf", File.ReadAllText(Path.Combine(demo.Driver("corrin-network"), "cornet.inf")));
        var result = Do.Service(archive, "other", new RemoveChange("Windows/Panther"), demo.Add(folder.At("drv")));
        Assert.Equal([ChangeStatus.Skipped, ChangeStatus.Refused], Statuses(result));
        Assert.Contains("are missing: x64/cornet.sys", result.Changes[1].Why, StringComparison.Ordinal);
        Assert.Equal(before, File.ReadAllBytes(archive));
    }

    [Fact]
    public void DriversOfAnotherArchitectureAreRefused()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var text = File.ReadAllText(Path.Combine(demo.Driver("pell-barcode"), "pellscan.inf"))
            .Replace("NTamd64", "NTarm64", StringComparison.Ordinal);
        folder.Write("pellscan.inf", text);
        var result = Do.Service(archive, null, demo.Add(folder.At("pellscan.inf")));
        Assert.Equal([ChangeStatus.Refused], Statuses(result));
        Assert.Equal("it is for arm64; the image is amd64", result.Changes[0].Why);
    }

    [Fact]
    public void AnImageWithoutWindowsTakesFilesOnly()
    {
        using var folder = new TempFolder();
        folder.Write("src/x", "x");
        Do.Capture(folder.At("src"), folder.At("a.vmb"));
        var result = Do.Service(folder.At("a.vmb"), null, demo.Add(demo.Driver("pell-barcode")),
            new AnswersChange(demo.At("answers/reading-room.xml")));
        Assert.All(result.Changes, c => Assert.Equal((ChangeStatus.Refused, "the image holds no Windows"), (c.Status, c.Why)));
        Assert.True(Do.Service(folder.At("a.vmb"), null, new PutChange(folder.At("src"), "y")).Written);
        Assert.True(Do.WithTree(folder.At("a.vmb"), 1, t => t.Exists(WindowsPath.Parse("y/x"))));
    }

    [Fact]
    public void PublishedNamesFillTheLowestGap()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        for (var number = 0; number < 300; number++)
        {
            if (number != 41)
                folder.Write($"INF/oem{number}.{(number == 7 ? "pnf" : "inf")}", "; left by an older driver");
        }
        Do.Service(archive, null, new PutChange(folder.At("INF"), "Windows/INF"));
        Do.Service(archive, null, demo.Add(demo.Driver("pell-barcode"), demo.Driver("corrin-network")));
        Assert.Equal(["oem41.inf", "oem300.inf"], Do.Show(ImageReference.Parse(archive)).Drivers!.Select(d => d.Inf));
    }

    [Fact]
    public void APlanWritesNothing()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var before = File.ReadAllBytes(archive);
        var result = Do.Service(
            new ServiceRequest
            {
                Image = ImageReference.Parse(archive),
                Changes = WorkOrder.Read(demo.At("orders/lending-desk.yaml")).Changes,
                PlanOnly = true,
            }, NoProgress.Instance, CancellationToken.None);
        Assert.Equal(5, result.Changes.Count);
        Assert.All(Statuses(result), s => Assert.Equal(ChangeStatus.Done, s));
        Assert.False(result.Written);
        Assert.Equal(before, File.ReadAllBytes(archive));
    }

    [Fact]
    public void FilesArePutAndRemoved()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var file = folder.Write("new.txt", "new");
        var result = Do.Service(archive, "edited",
            new PutChange(file, "Users/Public/Documents"), new PutChange(file, "Windows/explorer.txt"),
            new PutChange(folder.At("nothing"), "x"));
        Assert.Equal(ChangeStatus.Refused, result.Changes[2].Status);
        result = Do.Service(archive, "edited",
            new PutChange(file, "Users/Public/Documents"), new PutChange(file, "users/public/documents/WELCOME.txt"),
            new RemoveChange("**/*.manifest"), new RemoveChange("no/such"), new RemoveChange("no/such/*"));
        Assert.Equal("new"u8.ToArray(),
            Do.WithTree(archive, 2, t => t.ReadFile(WindowsPath.Parse("Users/Public/Documents/Welcome.txt"), 100)));
        Assert.Equal("new"u8.ToArray(), Do.WithTree(archive, 2, t => t.ReadFile(WindowsPath.Parse("Users/Public/Documents/new.txt"), 100)));
        Assert.Empty(Do.WithTree(archive, 2, t => t.Names(WindowsPath.Parse("Windows/WinSxS/Manifests"))));
        Assert.Equal(ChangeStatus.Already, result.Changes[^2].Status);
        Assert.Equal(ChangeStatus.Skipped, result.Changes[^1].Status);
    }

    [Fact]
    public void ReplacingOneNameOfAHardLinkedFileLeavesTheOthers()
    {
        using var folder = new TempFolder();
        folder.Write("src/a", "shared");
        Tools.Run("ln", ["src/a", "src/b"], folder.Path);
        Do.Capture(folder.At("src"), folder.At("a.vmb"));
        var result = Do.Service(folder.At("a.vmb"), null, new PutChange(folder.Write("fresh", "fresh!!"), "a"));
        Assert.Equal(13, result.Image.Bytes);
        Do.Deploy(folder.At("a.vmb"), folder.At("out"));
        Assert.Equal(("fresh!!", "shared"), (File.ReadAllText(folder.At("out/a")), File.ReadAllText(folder.At("out/b"))));
    }

    [Theory]
    [InlineData("a=b", "no-such-file")]
    [InlineData("nothing", "bad-put")]
    [InlineData("=x", "bad-put")]
    public void APutThatIsNoneIsSaid(string text, string code) =>
        Assert.Equal(code, Assert.Throws<VembarException>(() => PutChange.Parse(text)).Code);

    [Theory]
    [InlineData("changes:\n  - driver: [a]\n", "line 2")]
    [InlineData("changes:\n  - fly: away\n", "exactly one of")]
    [InlineData("changes:\n  - put: x\n", "needs 'to'")]
    [InlineData("changes:\n  - driver: x\n    remove: y\n", "driver and remove at once")]
    [InlineData("title: x\n", "lists no changes")]
    [InlineData("chnages: []\n", "'chnages' is not known")]
    [InlineData("a: [\n", "line")]
    [InlineData("just text", "mapping")]
    public void AWorkOrderThatIsNoneIsSaid(string text, string part)
    {
        using var folder = new TempFolder();
        var problem = Assert.Throws<VembarException>(() => WorkOrder.Read(folder.Write("order.yaml", text)));
        Assert.Contains(part, problem.Message, StringComparison.Ordinal);
    }
}

public class AnswerTests(DemoFixture demo)
{
    private const string Head = "<unattend xmlns=\"urn:schemas-microsoft-com:unattend\">";

    private static string Shell(string architecture, string inner, string pass = "specialize") =>
        $"<settings pass=\"{pass}\"><component name=\"Microsoft-Windows-Shell-Setup\" "
        + $"processorArchitecture=\"{architecture}\">{inner}</component></settings>";

    private static IReadOnlyList<AnswerFinding> Check(string xml, string architecture = "x64") =>
        AnswerFile.Parse(System.Text.Encoding.UTF8.GetBytes(xml), "test.xml").Check(architecture);

    [Theory]
    [InlineData("lending-desk")]
    [InlineData("reading-room")]
    public void TheDemosAnswersAreInOrder(string name)
    {
        Assert.Empty(AnswerFile.Parse(File.ReadAllBytes(demo.At($"answers/{name}.xml")), name).Check("x64"));
        Tools.Run("xmllint", ["--noout", demo.At($"answers/{name}.xml")]);
        Assert.Contains(AnswerFile.Parse(File.ReadAllBytes(demo.At($"answers/{name}.xml")), name).Check("arm64"),
            f => f.IsError && f.Text.Contains("ignore it in silence", StringComparison.Ordinal));
    }

    [Fact]
    public void MistakesAreFoundWithTheirLines()
    {
        Assert.Contains("must be 'unattend'", Check("<unattend/>").Single().Text, StringComparison.Ordinal);
        Assert.Contains(Check($"{Head}\n{Shell("amd64", "", "specialise")}</unattend>"),
            f => f is { IsError: true, Line: 2 } && f.Text.Contains("'specialise' does not exist", StringComparison.Ordinal));
        Assert.Contains(Check($"{Head}{Shell("x64", "")}</unattend>"),
            f => f.IsError && f.Text.Contains("'x64', which does not exist", StringComparison.Ordinal));
        Assert.Contains(Check($"{Head}{Shell("amd64", "<ComputerName>much-too-long-a-name</ComputerName>")}</unattend>"),
            f => f.IsError && f.Text.Contains("20 characters", StringComparison.Ordinal));
        Assert.Contains(Check($"{Head}{Shell("amd64", "<AutoLogon><Password><Value>secret</Value></Password></AutoLogon>")}</unattend>"),
            f => !f.IsError && f.Text.Contains("password", StringComparison.Ordinal));
        Assert.Contains(Check($"{Head}</unattend>"), f => f.IsError);
        Assert.Contains(Check($"{Head}<wrong/></unattend>"), f => f.IsError && f.Text.Contains("no place", StringComparison.Ordinal));
        Assert.Empty(Check($"{Head}<settings pass=\"specialize\"><component name=\"A\" processorArchitecture=\"amd64\"/><component "
            + $"name=\"A\" processorArchitecture=\"arm64\"/></settings></unattend>"));
    }

    [Theory]
    [InlineData("<a")]
    [InlineData("")]
    [InlineData("<!DOCTYPE a [<!ENTITY x \"y\">]><a>&x;</a>")]
    public void WhatIsNoXmlIsSaidWithItsPlace(string xml)
    {
        var problem = Assert.Throws<VembarException>(() => Check(xml));
        Assert.Equal("bad-answer-file", problem.Code);
    }

    [Theory]
    [InlineData("TVL-DESK-014", true)]
    [InlineData("*", true)]
    [InlineData("A23456789012345", true)]
    [InlineData("A234567890123456", false)]
    [InlineData("12345", false)]
    [InlineData("has space", false)]
    [InlineData("dot.ted", false)]
    [InlineData("", false)]
    public void ComputerNamesFollowTheRules(string name, bool good) => Assert.Equal(good, AnswerFile.ComputerNameProblem(name) is null);

    [Fact]
    public void AMachineGetsItsName()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        Do.Deploy(archive, folder.At("bare"), r => r with { ComputerName = "TVL-1" });
        Assert.Equal("TVL-1\n",
            Tools.Run("xmllint", ["--xpath", "//*[local-name()='ComputerName']/text()", folder.At("bare/Windows/Panther/unattend.xml")]));
        Do.Service(archive, null, new AnswersChange(demo.At("answers/lending-desk.xml")));
        Do.Deploy(archive, folder.At("named"), r => r with { ComputerName = "TVL-2" });
        var written = File.ReadAllText(folder.At("named/Windows/Panther/unattend.xml"));
        Assert.Contains("<ComputerName>TVL-2</ComputerName>", written, StringComparison.Ordinal);
        Assert.Contains("Register this desk", written, StringComparison.Ordinal);
        Assert.Contains("no questions at first start", written, StringComparison.Ordinal);
        Assert.Empty(AnswerFile.Parse(File.ReadAllBytes(folder.At("named/Windows/Panther/unattend.xml")), "x").Check("x64"));
        // The image itself keeps the name it had.
        Assert.Contains("<ComputerName>*</ComputerName>",
            System.Text.Encoding.UTF8.GetString(Do.WithTree(archive, 1,
            t => t.ReadFile(WindowsPath.Parse("Windows/Panther/unattend.xml"), 100_000))!), StringComparison.Ordinal);
        Assert.Equal("bad-computer-name", Assert.Throws<VembarException>(() => Do.Deploy(archive, folder.At("none"), r => r with
        {
            ComputerName = "a b",
        })).Code);
        Assert.False(Directory.Exists(folder.At("none")));
    }

    [Fact]
    public void AnAnswerFileThatIsWrongIsRefused()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var result = Do.Service(archive, null, new AnswersChange(folder.Write("bad.xml", $"{Head}{Shell("arm64", "")}</unattend>")),
            new AnswersChange(folder.Write("cut.xml", Head)));
        Assert.All(result.Changes, c => Assert.Equal(ChangeStatus.Refused, c.Status));
        Assert.Contains("is for arm64", result.Changes[0].Why, StringComparison.Ordinal);
        Assert.Contains("cut.xml", result.Changes[1].Why, StringComparison.Ordinal);
    }
}
