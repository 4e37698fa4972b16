using Vembar.Tests;

namespace Vembar.Cli.Tests;

/// <summary>A working folder with an archive and the demo's world in it; mistakes leave it as it is.</summary>
public sealed class MistakeFolder : IDisposable
{
    private readonly TempFolder _folder = new();

    public string Path => _folder.Path;

    public void Fill(World world)
    {
        if (File.Exists(_folder.At("desks.vmb")))
            return;
        world.CopyArchive(_folder);
        foreach (var name in (string[])["references", "drivers", "house", "orders", "disks", "spoiled", "hardware", "trust"])
            File.CreateSymbolicLink(_folder.At(name), world.At(name));
    }

    public string[] Names() => [.. Directory.EnumerateFileSystemEntries(Path).Select(f => System.IO.Path.GetFileName(f)).Order()];

    public void Dispose() => _folder.Dispose();
}
