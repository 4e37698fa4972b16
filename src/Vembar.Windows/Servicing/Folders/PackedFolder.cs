using Vembar.Images.Nodes;

namespace Vembar.Windows.Servicing.Folders;

/// <summary>A package's folder inside of a packed file.</summary>
/// <param name="packed">The packed file.</param>
/// <param name="folder">The folder in it, with '/'; empty for its top.</param>
public sealed class PackedFolder(PackedFile packed, string folder) : IPackageFolder
{
    /// <inheritdoc/>
    public string DisplayName => folder.Length > 0 ? $"{packed.Path}/{folder}" : packed.Path;

    /// <inheritdoc/>
    public long? Length(string file) => packed.Files.TryGetValue(At(file), out var length) ? length : null;

    /// <inheritdoc/>
    public Stream Open(string file) =>
        packed.Files.ContainsKey(At(file)) ? packed.Open(At(file)) : throw PackageFolders.Missing(DisplayName, file);

    /// <inheritdoc/>
    public NewContent Content(string file) =>
        Length(file) is { } length ? NewContent.From(() => Open(file), length) : throw PackageFolders.Missing(DisplayName, file);

    private string At(string file) => folder.Length > 0 ? $"{folder}/{file}" : file;
}
