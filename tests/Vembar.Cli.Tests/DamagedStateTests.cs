using System.Buffers.Binary;
using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests;

/// <summary>Archives whose newest state is damaged: no older one is taken for it without a word.</summary>
public sealed class DamagedStateTests(World world) : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    // The newest state brings a version of the first image, and its record is damaged in both copies.
    private string Damaged()
    {
        const int RecordLength = 192, FirstAt = 112;
        var archive = world.CopyArchive(_folder);
        Assert.Equal(0, Vembar.Run("capture", world.At("drivers"), archive, "--name", "Lending desk", "--version", "2026.11").Code);
        var bytes = File.ReadAllBytes(archive);
        var first = (int)BinaryPrimitives.ReadInt64LittleEndian(bytes.AsSpan(bytes.Length - RecordLength + FirstAt));
        bytes[first + 20] ^= 1;
        bytes[^100] ^= 1;
        File.WriteAllBytes(archive, bytes);
        return archive;
    }

    // A note goes before, which tells of the damage.
    private static void Refused(string part, params string[] arguments)
    {
        var ran = Vembar.Run(arguments);
        Assert.Equal((4, ""), (ran.Code, ran.Output));
        Assert.Contains("vembar: ", ran.Error, StringComparison.Ordinal);
        Assert.Contains(part, ran.Error, StringComparison.Ordinal);
        Assert.Equal("newer-state-damaged", Vembar.Run([.. arguments, "--json"]).JsonError.GetProperty("code").GetString());
    }

    [Fact]
    public void NamesAndPlacesAreRefusedAndNumbersAreTold()
    {
        var archive = Damaged();
        foreach (var which in (string[])["#last", "#Lending desk", "#Lending desk@newest", "#Lending desk@2026.09", ""])
        {
            Refused("a newer state", "show", archive + which);
            Refused("--at-state 2", "deploy", archive + which, _folder.At("out"));
        }
        Assert.False(Path.Exists(_folder.At("out")));
        Refused("a newer state", "copy", archive + "#last", _folder.At("other.vmb"));
        Refused("a newer state", "diff", archive + "#1", archive + "#last");
        Refused("a newer state", "ready", archive + "#last");
        foreach (var command in (string[][])[["show", archive + "#1"], ["list", archive], ["files", archive + "#1"], ["history", archive],
            ["report", archive], ["diff", archive + "#1", archive + "#2"], ["take", archive + "#1", "Users", "--to", _folder.At("taken")]])
        {
            var people = Vembar.Run([.. command, "--overwrite"]);
            Assert.True(people.Code == 0, string.Join(' ', command) + people.Error);
            Assert.Contains("newer state", people.Error, StringComparison.Ordinal);
            Assert.Contains("vembar verify", people.Error, StringComparison.Ordinal);
            if (command[0] == "take")
                Directory.Delete(_folder.At("taken"), recursive: true);
            var json = Vembar.Run([.. command, "--json"]).Json;
            Assert.Contains(json.GetProperty("warnings").EnumerateArray(),
                w => w.GetString()!.Contains("newer state", StringComparison.Ordinal));
        }
    }

    [Fact]
    public void TheArchiveIsTakenAsItWasWhereThatIsAskedFor()
    {
        var archive = Damaged();
        var ran = Vembar.Run("show", archive + "#last", "--at-state", "2", "--json");
        Assert.Equal(2, ran.Json.GetProperty("image").GetProperty("number").GetInt32());
        Assert.False(ran.Json.TryGetProperty("warnings", out var warnings) && warnings.GetArrayLength() > 0);
        Assert.Equal(1, Vembar.Run("show", archive + "#last", "--at-state", "1", "--json").Json.GetProperty("image").GetProperty("number")
            .GetInt32());
        Assert.Equal(1, Vembar.Run("list", archive, "--at-state", "1", "--json").Json.GetProperty("images").GetArrayLength());
        Assert.Equal(0, Vembar.Run("deploy", archive + "#Lending desk", _folder.At("out"), "--at-state", "2", "--verify").Code);
        Vembar.Refused(3, "has no whole state 3", "show", archive + "#last", "--at-state", "3");
        Vembar.Refused(3, "has no whole state 7", "list", archive, "--at-state", "7");
        // Of a whole archive too.
        Assert.Equal(1, Vembar.Run("list", world.Archive, "--at-state", "1", "--json").Json.GetProperty("images").GetArrayLength());
    }

    [Fact]
    public void ASiteIsNotBroughtBackToWhatWasBefore()
    {
        var archive = Damaged();
        _folder.Write("vembar.yaml", $"archive: {archive}\nsites:\n  far: {{ place: far.vmb, newest: 1 }}\n");
        var refused = Vembar.Run("sync", "far", "--project", _folder.At("vembar.yaml"));
        Assert.Equal(4, refused.Code);
        Assert.Contains("a newer state", refused.Error, StringComparison.Ordinal);
        Assert.False(File.Exists(_folder.At("far.vmb")));
    }
}
