using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests;

/// <summary>What an image is made of, in an open form.</summary>
public sealed class BillOfMaterialsTests(World world)
{
    [Fact]
    public void ItIsValidAndSaysWhatIsThere()
    {
        using var folder = new TempFolder();
        var archive = world.CopyArchive(folder);
        Assert.Equal(0, Vembar.Run("service", archive + "#1", "--driver", world.At("drivers/corrin-storage"), "--trust", world.At("trust"),
            "--package", world.At("packages/lanternview-2.7.zip"), "--in-place").Code);
        var file = folder.At("desk.cdx.json");
        Assert.Equal(0, Vembar.Run("show", archive + "#1", "--bill-of-materials", file).Code);
        var (code, _, error) = Tools.Try("python3", ["-c", "import json,sys,jsonschema\n"
            + "jsonschema.Draft7Validator(json.load(open(sys.argv[1]))).validate(json.load(open(sys.argv[2])))",
            Path.Combine(AppContext.BaseDirectory, "Schemas/bom-1.5.schema.json"), file]);
        Assert.Equal((0, ""), (code, error));
        var bill = System.Text.Json.JsonDocument.Parse(File.ReadAllText(file)).RootElement;
        Assert.Equal("operating-system", bill.GetProperty("metadata").GetProperty("component").GetProperty("type").GetString());
        var parts = bill.GetProperty("components").EnumerateArray().ToDictionary(c => c.GetProperty("name").GetString()!);
        Assert.Equal("Tarn Valley Libraries", parts["Shelfmark Lending Client"].GetProperty("publisher").GetString());
        Assert.Equal(("device-driver", "4.2.118.0"), (parts["corstor.inf"].GetProperty("type").GetString(),
            parts["corstor.inf"].GetProperty("version").GetString()));
        // The hash is that of the file in the image, as anybody can have it.
        Assert.Equal(0, Vembar.Run("take", archive + "#1", "Windows/INF/oem0.inf", "--to", folder.At("out")).Code);
        Assert.StartsWith(parts["corstor.inf"].GetProperty("hashes")[0].GetProperty("content").GetString()!,
            Tools.Run("b3sum", [Directory.EnumerateFiles(folder.At("out"), "oem0.inf", SearchOption.AllDirectories).Single()]),
            StringComparison.Ordinal);
        Assert.True(parts.ContainsKey("lanternview"));
        // The same again; over itself, not over anything else.
        var before = File.ReadAllText(file);
        Assert.Equal(0, Vembar.Run("show", archive + "#1", "--bill-of-materials", file).Code);
        Assert.Equal(before, File.ReadAllText(file));
        Assert.Equal(before, Vembar.Run("show", archive + "#1", "--bill-of-materials", "-").Output);
        // A folder of files is no install.
        Assert.Equal(0, Vembar.Run("capture", world.At("house"), folder.At("house.vmb"), "--name", "House").Code);
        Assert.Equal(3, Vembar.Run("show", folder.At("house.vmb") + "#1", "--bill-of-materials", folder.At("house.json")).Code);
        Assert.False(File.Exists(folder.At("house.json")));
        folder.Write("other.json", "{}");
        Assert.Equal(3, Vembar.Run("show", archive + "#1", "--bill-of-materials", folder.At("other.json")).Code);
    }
}
