using Vembar.Common;
using Vembar.Common.Files;
using Vembar.Images.Nodes;

namespace Vembar.Windows.Servicing.Folders;

/// <summary>A package's folder on this machine.</summary>
public sealed class DiskPackageFolder(string path) : IPackageFolder
{
    /// <inheritdoc/>
    public string DisplayName => path;

    /// <inheritdoc/>
    public long? Length(string file) => Locate(file) is { } at ? new FileInfo(at).Length : null;

    /// <inheritdoc/>
    public Stream Open(string file)
    {
        var at = Locate(file) ?? throw PackageFolders.Missing(DisplayName, file);
        try
        {
            return InputFile.OpenRead(at);
        }
        catch (Exception failure) when (VembarException.From(failure, "read", at) is { } error)
        {
            throw error;
        }
    }

    /// <inheritdoc/>
    public NewContent Content(string file) =>
        Locate(file) is { } at ? new NewContent(null, at, new FileInfo(at).Length) : throw PackageFolders.Missing(DisplayName, file);

    private string? Locate(string file)
    {
        var at = path;
        foreach (var part in file.Split('/'))
        {
            var exact = Path.Combine(at, part);
            var next = Path.Exists(exact) ? exact
                : Directory.Exists(at) ? Directory.EnumerateFileSystemEntries(at)
                .FirstOrDefault(e => Path.GetFileName(e).Equals(part, StringComparison.OrdinalIgnoreCase)) : null;
            if (next is null)
                return null;
            at = next;
        }
        return File.Exists(at) ? at : null;
    }
}
