using Vembar.Operations.Diff;

namespace Vembar.Operations.Builds;

/// <summary>What a build changed against the version before.</summary>
/// <param name="From">The version before, by number and title.</param>
/// <param name="Added">How many paths are new.</param>
/// <param name="Removed">How many are gone.</param>
/// <param name="Changed">How many differ.</param>
/// <param name="Folders">The same by folder, those with the most first.</param>
/// <param name="Programs">Programs; null where there is no Windows.</param>
/// <param name="Drivers">Added drivers.</param>
/// <param name="Packages">Packages.</param>
/// <param name="Features">Features that are on.</param>
/// <param name="Bytes">By how many bytes the files are more.</param>
public sealed record BuildChanges(string From, int Added, int Removed, int Changed, IReadOnlyList<ChangedFolder> Folders,
    ChangedNames? Programs, ChangedNames? Drivers, ChangedNames? Packages, ChangedNames? Features, long Bytes)
{
    private const int MostFolders = 30, Depth = 2;

    /// <summary>Of what a comparison found.</summary>
    public static BuildChanges Of(DiffResult found)
    {
        static string FolderOf(string path) => string.Join('/', path.Split('/')[..^1].Take(Depth));
        // What servicing wrote anew with the same content has another time, and nothing else.
        var changed = found.Changed.Where(c => c.What.Any(w => w != "time")).ToList();
        var folders = found.Added.Select(p => (Path: p, Kind: 0)).Concat(found.Removed.Select(p => (Path: p, Kind: 1)))
            .Concat(changed.Select(c => (c.Path, Kind: 2))).GroupBy(p => FolderOf(p.Path))
            .Select(g => new ChangedFolder(g.Key, g.Count(p => p.Kind == 0), g.Count(p => p.Kind == 1), g.Count(p => p.Kind == 2)))
            .OrderByDescending(f => f.Added + f.Removed + f.Changed).ThenBy(f => f.Folder, StringComparer.Ordinal);
        return new BuildChanges($"{found.From.Number} {found.From.Title}", found.Added.Count, found.Removed.Count, changed.Count,
            [.. folders.Take(MostFolders)], found.Programs, found.Drivers, found.Packages, found.Features,
            found.To.Bytes - found.From.Bytes);
    }
}
