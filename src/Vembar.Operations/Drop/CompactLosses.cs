using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Store.Format;
using Vembar.Store.Hashing;
using Vembar.Store.Places;
using Vembar.Store.Reading;

namespace Vembar.Operations.Drop;

/// <summary>Looks at what compacting an archive would lose.</summary>
internal static class CompactLosses
{
    /// <summary>What goes.</summary>
    /// <param name="archive">The archive.</param>
    /// <param name="file">Where its file is, links followed; null where that is elsewhere.</param>
    public static CompactLoss Of(ArchiveReader archive, string? file)
    {
        var present = archive.Catalogue.Images.Select(i => i.Record).ToHashSet();
        var roots = archive.Images.Select(i => i.Root).ToHashSet();
        var seen = new HashSet<ChunkId>();
        var gone = new List<string>();
        // The empty state that it began with is nothing to go back to.
        var states = archive.States().Where(s => s.Commit is { Sequence: > 0 } commit && commit != archive.Commit).ToList();
        foreach (var entry in states.SelectMany(s => s.Catalogue?.Images ?? []))
        {
            if (!present.Contains(entry.Record) && seen.Add(entry.Record) && Record(archive, entry) is { } image && roots.Add(image.Root))
                gone.Add($"{image.Number} {image.Title}");
        }
        return new CompactLoss(archive.Path, archive.FileLength, states.Count, gone, DependentsOf(archive, file));
    }

    private static ImageRecord? Record(ArchiveReader archive, CatalogueEntry entry)
    {
        try
        {
            return ImageCatalogue.Read(archive, entry) with { Number = entry.Number };
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged)
        {
            return null;
        }
    }

    // Those that lie in the same folder.
    private static List<string> DependentsOf(ArchiveReader archive, string? file)
    {
        if (file is null)
            return [];
        var dependents = new List<string>();
        var folder = Path.GetDirectoryName(file)!;
        foreach (var other in Directory.EnumerateFiles(folder, "*.vmb").Order(StringComparer.Ordinal))
        {
            if (other != file && BasesOf(other).Any(b => b.Id == archive.Header.Id))
                dependents.Add(Path.GetFileName(other));
        }
        return dependents;
    }

    private static IReadOnlyList<BaseArchive> BasesOf(string path)
    {
        try
        {
            using var file = LocalFileSystem.Instance.OpenRead(path);
            return ArchiveHeader.Read(file, path).Bases;
        }
        catch (Exception failure) when (failure is VembarException or IOException or UnauthorizedAccessException or Native.NativeException)
        {
            return [];
        }
    }
}
