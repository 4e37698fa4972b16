using Vembar.Images.Editing;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;

namespace Vembar.Windows.Servicing.Folders;

/// <summary>A package's folder in an image: in its driver store, or where a package's files are kept.</summary>
public sealed class StoredPackageFolder(TreeEditor files, WindowsPath folder) : IPackageFolder
{
    /// <inheritdoc/>
    public string DisplayName => folder.ToString();

    /// <inheritdoc/>
    public long? Length(string file) => files.Find(At(file))?.Entry is { Kind: EntryKind.File } entry ? entry.Length : null;

    /// <inheritdoc/>
    public Stream Open(string file) =>
        new MemoryStream(files.ReadFile(At(file), PackageFolders.LargestFile) ?? throw PackageFolders.Missing(DisplayName, file),
        writable: false);

    /// <inheritdoc/>
    public NewContent Content(string file)
    {
        if (files.Find(At(file))?.Entry is not { Kind: EntryKind.File } entry)
            throw PackageFolders.Missing(DisplayName, file);
        return entry.New ?? NewContent.Of(entry.Content!);
    }

    private WindowsPath At(string file) => file.Split('/').Aggregate(folder, (at, part) => at.Child(part));
}
