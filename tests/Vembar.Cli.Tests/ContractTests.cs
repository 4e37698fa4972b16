using System.Text.Json;
using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests;

/// <summary>What scripts rely on: documents of the shape that docs/json.md tells, streams kept apart, quiet when asked.</summary>
public class ContractTests(World world)
{
    [Fact]
    [Trait("Set", "Slow")]
    public void EveryKeyThatIsPrintedIsInTheDocumentation()
    {
        using var folder = new TempFolder();
        var archive = world.CopyArchive(folder);
        var page = File.ReadAllText(Path.Combine(Vembar.Repository, "docs/json.md"));
        string[][] runs =
        [
            ["survey", world.At("references/bookmobile")],
            ["survey", world.At("disks/lending-desk.vhdx")],
            ["ready", world.At("disks/lending-desk.vhdx")],
            ["capture", world.At("references/bookmobile"), archive, "--name", "Bookmobile"],
            ["capture", world.At("references/bookmobile"), folder.At("based.vmb"), "--name", "Bookmobile", "--based-on", archive],
            ["list", folder.At("based.vmb")],
            ["list", archive],
            ["show", archive + "#1"],
            ["files", archive + "#1", "Windows/Panther"],
            ["take", archive + "#1", "Windows/Panther", "--to", folder.At("taken")],
            ["diff", archive + "#1", archive + "#2"],
            ["report", archive],
            ["service", archive + "#1", "--driver", world.At("drivers/pell-barcode"), "--trust", world.At("trust"), "--in-place"],
            ["show", archive + "#1", "--only", "drivers"],
            ["drivers", world.At("drivers"), "--trust", world.At("trust")],
            ["drivers", world.At("drivers"), world.At("more-drivers"), "--image", archive + "#1", "--for", world.At("hardware"), "--trust",
            world.At("trust")],
            ["package", "make", world.At("packages/shelfmark-7.4"), "--out", folder.At("p.zip")],
            ["package", "check", folder.At("p.zip")],
            ["service", archive + "#1", "--package", folder.At("p.zip"), "--feature", "Lending.Print=on", "--first-start", "echo",
            "--in-place"],
            ["features", archive + "#1"],
            ["answers", "check", world.At("answers/lending-desk.xml"), "--image", archive + "#1"],
            ["answers", "make", world.At("answers/bookmobile.yaml"), "--out", folder.At("made.xml")],
            ["show", archive + "#1"],
            ["drivers", "hardware", "--from", Sys(folder)],
            ["deploy", archive + "#1", folder.At("deployed")],
            ["deploy", archive + "#1", folder.At("deployed.img"), "--size", "2 GiB"],
            ["copy", archive + "#1", folder.At("other.vmb")],
            ["retitle", archive + "#1", "--note", "n"],
            ["mark", archive + "#1", "--channel", "pilot"],
            ["list", archive, folder.At("other.vmb")],
            ["check", "--from", archive + "#1", "--out", folder.At("expected.yaml")],
            ["check", archive + "#1", folder.At("expected.yaml")],
            ["init", folder.Path],
            ["cache"],
            ["drop", archive + "#2", "--confirm"],
            ["history", archive],
            ["rewind", archive, "--to", "2"],
            ["verify", archive],
            ["verify", archive, "--recover", folder.At("saved.vmb")],
            ["compact", archive, "--confirm"],
        ];
        foreach (var run in runs)
        {
            var ran = Vembar.Run([.. run, "--json"]);
            Assert.True(ran.Code == 0, $"{string.Join(' ', run)}: {ran.Output}{ran.Error}");
            foreach (var property in ran.Json.EnumerateObject())
            {
                Assert.True(page.Contains(property.Name, StringComparison.Ordinal), $"{run[0]}: '{property.Name}' is not in docs/json.md");
                if (property.Value.ValueKind == JsonValueKind.Array && property.Value.GetArrayLength() > 0
                    && property.Value[0].ValueKind == JsonValueKind.Object)
                    Assert.All(property.Value[0].EnumerateObject(),
                        inner => Assert.True(page.Contains(inner.Name, StringComparison.Ordinal),
                            $"{run[0]}: '{property.Name}.{inner.Name}' is not in docs/json.md"));
            }
        }
    }

    // A machine with one device.
    private static string Sys(TempFolder folder)
    {
        foreach (var (file, text) in (ReadOnlySpan<(string, string)>)[("vendor", "0xf1c0"), ("device", "0x0410"), ("class", "0x010700")])
            folder.Write($"sys/bus/pci/devices/0000:00:17.0/{file}", text);
        return folder.At("sys");
    }

    [Fact]
    public void EveryImageHasTheSameKeysWhereverItIsPrinted()
    {
        using var folder = new TempFolder();
        var archive = world.CopyArchive(folder);
        var expected = Keys(Vembar.Run("list", archive, "--json").Json.GetProperty("images")[0]);
        Assert.Equal(expected, Keys(Vembar.Run("show", archive + "#1", "--json").Json.GetProperty("image")));
        Assert.Equal(expected, Keys(Vembar.Run("files", archive + "#1", "Windows/Panther", "--json").Json.GetProperty("image")));
        Assert.Equal(expected,
            Keys(Vembar.Run("service", archive + "#1", "--remove", "Windows/Panther", "--plan", "--json").Json.GetProperty("image")));
        Assert.Equal(expected, Keys(Vembar.Run("diff", archive + "#1", archive + "#2", "--json").Json.GetProperty("from")));
        Assert.Equal(expected, Keys(Vembar.Run("drop", archive + "#2", "--confirm", "--json").Json.GetProperty("image")));
    }

    private static string[] Keys(JsonElement image) => [.. image.EnumerateObject().Select(p => p.Name)];

    [Fact]
    public void ResultsGoToStandardOutputAndRemarksToStandardError()
    {
        using var folder = new TempFolder();
        folder.Write("src/file", "x");
        var plain = Vembar.Run("capture", folder.At("src"), folder.At("a.vmb"), "--name", "x", "--leave-out", "*.none");
        Assert.DoesNotContain("note:", plain.Output, StringComparison.Ordinal);
        Assert.Equal(2,
            plain.Error.Split('\n', StringSplitOptions.RemoveEmptyEntries).Count(l => l.StartsWith("note: ", StringComparison.Ordinal)));
        var json = Vembar.Run("capture", folder.At("src"), folder.At("a.vmb"), "--name", "y", "--leave-out", "*.none", "--json");
        Assert.Equal("", json.Error);
        Assert.Equal(2, json.Json.GetProperty("warnings").GetArrayLength());
        Assert.Equal("", Vembar.Run("deploy", folder.At("a.vmb") + "#1", folder.At("out"), "--quiet").Error);
    }

    [Fact]
    public void PatternsComeFromAFileToo()
    {
        using var folder = new TempFolder();
        foreach (var name in (string[])["a.iso", "sub/b.iso", "c.txt", "sub/d.log"])
            folder.Write($"src/{name}", name);
        var rules = folder.Write("rules", "# images of discs\n**/*.iso\n\n  sub/*.log  \n");
        Assert.Equal(0, Vembar.Run("capture", folder.At("src"), folder.At("a.vmb"), "--name", "x", "--leave-out-file", rules).Code);
        var files = Vembar.Run("files", folder.At("a.vmb"), "--deep", "--json").Json.GetProperty("entries").EnumerateArray()
            .Select(e => e.GetProperty("path").GetString());
        Assert.Equal(["c.txt", "sub"], files);
        Assert.Equal(3,
            Vembar.Run("capture", folder.At("src"), folder.At("a.vmb"), "--name", "y", "--leave-out-file", folder.At("none")).Code);
        var all = Vembar.Run("capture", world.At("references/bookmobile"), folder.At("a.vmb"), "--name", "all", "--keep-all",
            "--json").Json;
        Assert.Equal(0, all.GetProperty("leftOut").GetArrayLength());
    }

    [Theory]
    [InlineData("quick")]
    [InlineData("balanced")]
    [InlineData("dense")]
    public void EveryEffortGivesTheSameImage(string effort)
    {
        using var folder = new TempFolder();
        var root = Vembar.Run("capture", world.At("drivers"), folder.At("a.vmb"), "--name", "x", "--effort", effort,
            "--json").Json.GetProperty("image").GetProperty("root").GetString();
        Assert.Equal(Vembar.Run("capture", world.At("drivers"), folder.At("b.vmb"), "--name", "other name",
            "--json").Json.GetProperty("image").GetProperty("root").GetString(), root);
        Assert.Equal(0, Vembar.Run("deploy", folder.At("a.vmb"), folder.At("out"), "--verify").Code);
        Assert.Equal("", Tools.Run("diff", ["-r", world.At("drivers"), folder.At("out")]));
    }

    [Fact]
    public void DeployGivesAMachineItsOwnAnswers()
    {
        using var folder = new TempFolder();
        var target = folder.At("out");
        Assert.Equal(0, Vembar.Run("deploy", world.Archive + "#2", target, "--answers", world.At("answers/reading-room.xml"),
            "--computer-name", "TVL-READ-007").Code);
        var name = Tools.Run("xmllint",
            ["--xpath", "//*[local-name()='ComputerName']/text()", Path.Combine(target, "Windows/Panther/unattend.xml")]);
        Assert.Equal("TVL-READ-007", name.Trim());
        var bad = Vembar.Run("deploy", world.Archive + "#2", folder.At("bad"), "--answers", world.At("orders/reading-room.yaml"));
        Assert.Equal(3, bad.Code);
        Assert.False(Directory.Exists(folder.At("bad")));
        folder.Write("src/x", "x");
        Vembar.Run("capture", folder.At("src"), folder.At("a.vmb"), "--name", "files");
        var none = Vembar.Run("deploy", folder.At("a.vmb"), folder.At("none"), "--computer-name", "TVL-1");
        Assert.Equal(3, none.Code);
        Assert.Contains("holds no Windows", none.Error, StringComparison.Ordinal);
    }
}
