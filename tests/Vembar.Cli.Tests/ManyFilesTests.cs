using System.Buffers.Binary;
using System.Text.Json;
using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests;

/// <summary>Folders of very many files, and listings that are long.</summary>
public sealed class ManyFilesTests
{
    private const int Many = 9000;

    private static string Prepare(TempFolder folder)
    {
        for (var i = 0; i < Many; i++)
            folder.Write($"src/many/a rather long name of a file, number {i:0000}", $"{i % 10}");
        folder.Write("src/few/one", "one");
        var archive = folder.At("a.vmb");
        Assert.Equal(0, Vembar.Run("capture", folder.At("src"), archive, "--name", "one", "-q").Code);
        return archive;
    }

    [Fact]
    public void AListingIsTheSameForPeopleAndPrograms()
    {
        using var folder = new TempFolder();
        var archive = Prepare(folder);
        var lines = Vembar.Run("files", archive, "many").Output.Split('\n', StringSplitOptions.RemoveEmptyEntries);
        Assert.Equal(Many + 1, lines.Length);
        // Every path stands at the same place of its line, and no line ends with spaces.
        var column = lines[0].IndexOf("Path", StringComparison.Ordinal);
        var paths = lines.Skip(1).Select(l => l[column..]).ToList();
        Assert.All(lines, l => Assert.Equal(l.TrimEnd(), l));
        Assert.Equal(paths.Order(StringComparer.Ordinal), paths);
        var json = Vembar.Run("files", archive, "many", "--json");
        Assert.Equal((0, ""), (json.Code, json.Error));
        Assert.Equal(paths, json.Json.GetProperty("entries").EnumerateArray().Select(e => e.GetProperty("path").GetString()));
        Assert.Equal(Many + 3, Vembar.Run("files", archive, "--deep", "--json").Json.GetProperty("entries").GetArrayLength());
        Assert.Equal(10, Vembar.Run("files", archive, "many/*number 777?", "--json").Json.GetProperty("entries").GetArrayLength());
    }

    [Fact]
    public void AListingThatMeetsDamageIsOneErrorAndNothingElse()
    {
        using var folder = new TempFolder();
        var archive = Prepare(folder);
        var bytes = File.ReadAllBytes(archive);
        // docs/archive-format.md, "Block": the first block of trees that is not the first or the last of them.
        var trees = new List<int>();
        for (var at = bytes.AsSpan().IndexOf("VBLK"u8); at >= 0;)
        {
            if (bytes[at + 4] == 2)
                trees.Add(at);
            var next = bytes.AsSpan(at + 4).IndexOf("VBLK"u8);
            at = next < 0 ? -1 : at + 4 + next;
        }
        Assert.True(trees.Count >= 3, "the folder's pages lie in several blocks");
        var middle = trees[trees.Count / 2];
        var payload = middle + 40 + 4 * BinaryPrimitives.ReadInt32LittleEndian(bytes.AsSpan(middle + 8));
        bytes[payload + 100] ^= 8;
        File.WriteAllBytes(archive, bytes);

        var ran = Vembar.Run("files", archive, "many", "--json");
        Assert.Equal(4, ran.Code);
        Assert.Equal("archive-damaged", ran.JsonError.GetProperty("code").GetString());
        Assert.Contains("many", ran.JsonError.GetProperty("message").GetString(), StringComparison.Ordinal);
        var told = Vembar.Run("files", archive, "many");
        Assert.Equal((4, ""), (told.Code, told.Output));
        Assert.Contains("cannot be read", told.Error, StringComparison.Ordinal);
        // What does not need the block is listed.
        Assert.Contains("few/one", Vembar.Run("files", archive, "few").Output, StringComparison.Ordinal);
        Assert.Equal(1, Vembar.Run("verify", archive).Code);
    }

    [Fact]
    public void TwoImagesOfSuchAFolderAreCompared()
    {
        using var folder = new TempFolder();
        var archive = Prepare(folder);
        File.Delete(folder.At("src/many/a rather long name of a file, number 4321"));
        folder.Write("src/many/a rather long name of a file, number 1234", "changed");
        folder.Write("src/many/new", "new");
        Assert.Equal(0, Vembar.Run("capture", folder.At("src"), archive, "--name", "two", "-q").Code);
        var diff = Vembar.Run("diff", archive + "#1", archive + "#2", "--json").Json;
        string[] Paths(string key) =>
            [.. diff.GetProperty(key).EnumerateArray()
            .Select(e => e.ValueKind == JsonValueKind.Object ? e.GetProperty("path").GetString()! : e.GetString()!)];
        Assert.Equal(["many/new"], Paths("added"));
        Assert.Equal(["many/a rather long name of a file, number 4321"], Paths("removed"));
        Assert.Contains("many/a rather long name of a file, number 1234", Paths("changed"));
        Assert.DoesNotContain(Paths("changed"), p => p.EndsWith("number 1235", StringComparison.Ordinal));
        // Deployed, it is what it was.
        Assert.Equal(0, Vembar.Run("deploy", archive + "#2", folder.At("out"), "--verify", "-q").Code);
        Assert.Equal("", Tools.Run("diff", ["-r", folder.At("src"), folder.At("out")]));
    }

    [Fact]
    public void NothingIsLeftBehindInTheFolderForTemporaryFiles()
    {
        using var folder = new TempFolder();
        var archive = Prepare(folder);
        Directory.CreateDirectory(folder.At("tmp"));
        var ran = Vembar.Finish(Vembar.Start(["files", archive, "--deep", "--json"],
            start => start.Environment["TMPDIR"] = folder.At("tmp")));
        Assert.Equal(0, ran.Code);
        Assert.Empty(Directory.EnumerateFileSystemEntries(folder.At("tmp")));
        // Nowhere to put it is said, and is no half of a document.
        var none = Vembar.Finish(Vembar.Start(["files", archive, "--deep", "--json"],
            start => start.Environment["TMPDIR"] = folder.At("not there")));
        Assert.Equal(5, none.Code);
        Assert.Contains("not there", none.JsonError.GetProperty("message").GetString(), StringComparison.Ordinal);
    }
}
