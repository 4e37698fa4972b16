using Vembar.Images.Paths;
using Xunit;

namespace Vembar.Tests;

/// <summary>The format's page is complete: a reader in another language, written from it alone, reads what we write.</summary>
public class ReaderTests(DemoFixture demo)
{
    private static string Script => Path.Combine(Repository.Root, "tests/reader/read_archive.py");

    [Fact]
    public void AnotherReaderListsAndPrintsWhatOursDoes()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        for (var i = 0; i < 3000; i++)
            folder.Write($"src/many/f{i}", $"{i % 7}");
        var large = new byte[9_000_000];
        new Random(1).NextBytes(large);
        folder.Write("src/large.bin", large);
        File.CreateSymbolicLink(folder.At("src/link"), "large.bin");
        using (var sparse = File.Create(folder.At("src/sparse")))
        {
            sparse.SetLength(2_000_000);
            sparse.Position = 1_500_000;
            sparse.Write("data"u8);
        }
        Do.Capture(folder.At("src"), archive, "two");
        foreach (var number in (int[])[1, 2])
        {
            var ours = Do.WithTree(archive, number,
                t => t.Walk(t.Root, WindowsPath.Root).Select(e => $"{(int)e.Entry.Kind} {e.Entry.Length} {e.Path}").ToList());
            var theirs = Tools.Run("python3", [Script, archive, "list", $"{number}"]).Split('\n', StringSplitOptions.RemoveEmptyEntries);
            Assert.Equal(ours, theirs);
        }
        var based = folder.At("based.vmb");
        folder.Write("src/new.txt", "not in the base");
        Do.Capture(folder.At("src"), based, "three", r => r with { BasedOn = archive });
        foreach (var name in (string[])["large.bin", "sparse", "many/f2999"])
        {
            Tools.Run("sh", ["-c", $"python3 '{Script}' '{archive}' print 2 {name} | cmp - 'src/{name}'"], folder.Path);
            Tools.Run("sh", ["-c", $"python3 '{Script}' '{based}' print 1 {name} | cmp - 'src/{name}'"], folder.Path);
        }
        Assert.Equal("not in the base", Tools.Run("python3", [Script, based, "print", "1", "new.txt"]));
    }
}
