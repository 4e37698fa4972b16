namespace Vembar.Operations.Starters;

/// <summary>A package of Debian that was unpacked.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Version">Its version.</param>
/// <param name="Sha256">The hash of the package's file.</param>
/// <param name="Folder">Where its files are.</param>
internal sealed record DebianPackage(string Name, string Version, string Sha256, string Folder)
{
    /// <summary>A file of it; null for none. Links lead within the package, wherever they would on a system that has it
    /// installed.</summary>
    /// <param name="path">Where it would be installed, without a '/' in front.</param>
    public string? FileAt(string path)
    {
        const int Most = 20;
        for (var step = 0; step < Most; step++)
        {
            var info = new FileInfo(Path.Combine(Folder, path));
            if (info.LinkTarget is not { } target)
                return info.Exists ? info.FullName : null;
            var whole = Path.GetFullPath(target, "/" + Path.GetDirectoryName(path));
            path = whole.TrimStart('/');
        }
        return null;
    }
}
