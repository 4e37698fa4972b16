using Vembar.Common;
using Vembar.Images.Nodes;

namespace Vembar.Windows.Servicing.Folders;

/// <summary>
/// A folder whose files may lie there compressed: "chip.sys" as "chip.sy_", a cabinet of that one file, as makecab writes it and
/// set-up expands it. They are read as what they are expanded.
/// </summary>
/// <param name="folder">The folder.</param>
/// <remarks>Source: the vendor's driver documentation, "Compressing and decompressing source files" under SourceDisksFiles.</remarks>
public sealed class ExpandingFolder(IPackageFolder folder) : IPackageFolder
{
    private readonly Dictionary<string, PackedFile> _expanded = new(StringComparer.OrdinalIgnoreCase);

    /// <inheritdoc/>
    public string DisplayName => folder.DisplayName;

    /// <inheritdoc/>
    public long? Length(string file) => folder.Length(file) ?? Expand(file)?.Files.Values.Single();

    /// <inheritdoc/>
    public Stream Open(string file) =>
        folder.Length(file) is null && Expand(file) is { } packed ? packed.Open(packed.Files.Keys.Single()) : folder.Open(file);

    /// <inheritdoc/>
    public NewContent Content(string file) =>
        folder.Length(file) is null && Length(file) is { } length ? NewContent.From(() => Open(file), length) : folder.Content(file);

    /// <summary>The name that a compressed file has: the last character of its ending becomes an underscore, a short ending gets one
    /// more.</summary>
    public static string CompressedName(string file)
    {
        var dot = file.LastIndexOf('.');
        return dot < 0 || dot < file.LastIndexOf('/') ? file + "._" : file.Length - dot > 3 ? file[..^1] + "_" : file + "_";
    }

    private PackedFile? Expand(string file)
    {
        var name = CompressedName(file);
        lock (_expanded)
        {
            if (_expanded.TryGetValue(name, out var known))
                return known;
            if (folder.Length(name) is not { } length)
                return null;
            var displayName = $"{DisplayName}/{name}";
            var bytes = folder.Read(name);
            if (bytes.AsSpan().StartsWith("SZDD"u8) || bytes.AsSpan().StartsWith("KWAJ"u8))
            {
                throw VembarException.Input("old-compression",
                    $"'{displayName}' is compressed in the way of before cabinets "
                    + $"({System.Text.Encoding.ASCII.GetString(bytes.AsSpan(0, 4))})",
                    "Expand it, and put the plain file beside it.");
            }
            var packed = PackedFile.InMemory(bytes, displayName);
            if (packed.Files.Count != 1)
                throw VembarException.Input("bad-packed-file",
                    $"'{displayName}' holds {packed.Files.Count} files, where '{file}' alone is wanted",
                    "Take the driver package from its vendor again.");
            return _expanded[name] = packed;
        }
    }
}
