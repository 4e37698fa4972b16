namespace Vembar.Tests;

/// <summary>An archive with a small tree, and a layout that it goes onto.</summary>
public static class SmallDisks
{
    private const string Layout = "partitions:\n  - role: windows\n    label: Windows\n    size: 300 MiB\n";

    /// <summary>Makes archive and layout ("layout.yaml") in a folder; 31 files, two of them names of one.</summary>
    public static string Archive(TempFolder folder)
    {
        for (var i = 0; i < 30; i++)
            folder.Write($"src/d{i % 4}/f{i}", new string('x', 1000 * i));
        Tools.Run("ln", [folder.At("src/d0/f0"), folder.At("src/d1/second")]);
        Do.Capture(folder.At("src"), folder.At("a.vmb"));
        folder.Write("layout.yaml", Layout);
        return folder.At("a.vmb");
    }

    /// <summary>A file of one hole.</summary>
    public static string Sparse(TempFolder folder, string name, long length)
    {
        using (var file = File.Create(folder.At(name)))
            file.SetLength(length);
        return folder.At(name);
    }
}
