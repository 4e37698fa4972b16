using Vembar.Images.Reading;
using Vembar.Store.Format;
using Vembar.Store.Reading;

namespace Vembar.Volumes.Targets;

/// <summary>Fetches the content of files that will be written, where their archive is far away.</summary>
internal static class ContentFetch
{
    /// <summary>Begins to fetch.</summary>
    /// <param name="archive">The archive.</param>
    /// <param name="image">The image's tree.</param>
    /// <param name="files">The files, in the order in which they will be written; gone through only where something is fetched.</param>
    /// <returns>What ends it; null for nothing.</returns>
    public static IDisposable? Ahead(ArchiveReader archive, ImageTree image, IEnumerable<PlannedEntry> files) =>
        archive.FetchAhead(Blocks(archive, image, files));

    private static IEnumerable<BlockInfo> Blocks(ArchiveReader archive, ImageTree image, IEnumerable<PlannedEntry> files)
    {
        foreach (var file in files)
        {
            if (file.Entry.New is not null || file.Entry.Content is not { Length: > 0 } content)
                continue;
            foreach (var part in image.Parts(content, file.Path))
            {
                if (!part.IsHole && archive.BlockOf(part.Id) is { } block)
                    yield return block;
            }
        }
    }
}
