using Vembar.Common;
using Vembar.Common.Formats;
using Vembar.Common.Tasks;
using Vembar.Images.Nodes;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Store.Hashing;
using Vembar.Store.Reading;

namespace Vembar.Volumes.Sources;

/// <summary>
/// An earlier image of a source, which a walk compares with what it finds: what is as it was need not be read, nor described,
/// nor written again.
/// </summary>
/// <remarks>
/// A file is as it was when path, length and time are the same, and nothing of it has changed since that image was read: the
/// change time cannot be set back, as the other times can. A volume has that time in the image, so there it must be the same. What is
/// compared with is the tree as it was read; an image that was serviced since holds other things as well.
/// </remarks>
public sealed class EarlierImage
{
    private readonly IChunkSource _chunks;
    private readonly ImageTree _tree;
    private readonly long _before;
    private readonly bool _trustTimes;

    private EarlierImage(ArchiveReader archive, ImageRecord image, ChunkId root, bool trustTimes)
    {
        _chunks = archive;
        _tree = new ImageTree(archive, root, $"{archive.Path}#{image.Number}");
        _before = trustTimes && image.Origin.ChangedBefore is { } before ? FileTime.From(before).Ticks : 0;
        _trustTimes = trustTimes;
        Number = image.Number;
        Files = image.Files;
    }

    /// <summary>The image's number.</summary>
    public int Number { get; }

    /// <summary>How many files it has.</summary>
    public long Files { get; }

    /// <summary>The last image of this very source in an archive; null when there is none, or it is damaged.</summary>
    /// <param name="archive">Where to look.</param>
    /// <param name="source">The source.</param>
    /// <param name="from">Its full path.</param>
    /// <param name="trustTimes">
    /// Whether what is as it was by its times need not be read; otherwise, and where that cannot be told for certain, it is read, and
    /// compared
    /// first with what it was.
    /// </param>
    /// <param name="now">The time now, UTC.</param>
    public static EarlierImage? Find(ArchiveReader archive, ISource source, string from, bool trustTimes, DateTime now)
    {
        try
        {
            if (source.Identity is not { Length: > 0 } identity
                || archive.Images.LastOrDefault(i => i.Origin.Kind == source.Kind && i.Origin.From == from
                && i.Origin.Identity == identity) is not { } image)
                return null;
            // What was read, not what servicing made of it. A clock that was set back says nothing of what happened when.
            var isKept = image.Origin.Root is { } read && archive.Contains(read);
            var isCertain = isKept && image.Origin.Read is { } began && began <= now
                && (source.KeepsChangeTimes || image.Origin.ChangedBefore is not null);
            return new EarlierImage(archive, image, isKept ? image.Origin.Root!.Value : image.Root, trustTimes && isCertain);
        }
        catch (VembarException problem) when (problem.Kind is ErrorKind.Damaged or ErrorKind.Input)
        {
            // What cannot be read of the earlier image is read from the source.
            return null;
        }
    }

    /// <summary>The earlier root folder.</summary>
    public ChunkId Root => _tree.Root.Folder;

    /// <summary>Whether times tell what is as it was; otherwise it is read.</summary>
    internal bool TrustsTimes => _trustTimes;

    /// <summary>Whether something that was last changed at a time (in 100 ns since 1601) is surely as the image has it.</summary>
    internal bool IsOlder(long changed) => changed < _before;

    /// <summary>Hands the pages of an earlier folder to a comparison, until one says no.</summary>
    /// <returns>Whether all said yes; false as well when the folder is damaged.</returns>
    internal bool Compare(ChunkId folder, Func<ReadOnlySpan<byte>, bool> page)
    {
        try
        {
            foreach (var id in FolderReader.Pages(_chunks, folder))
            {
                var same = false;
                _chunks.Use(id, bytes => same = page(bytes));
                if (!same)
                    return false;
            }
            return true;
        }
        catch (Exception problem) when (problem is BinaryFormatException or VembarException { Kind: ErrorKind.Damaged })
        {
            return false;
        }
    }

    /// <summary>Gives the files of a folder the content they had, and its folders what they were.</summary>
    /// <param name="folder">The folder as it was found, sorted by name.</param>
    /// <param name="earlier">What it was.</param>
    /// <param name="ofVolume">Whether the source keeps the change time in the image.</param>
    internal void Match(SourceNode folder, ChunkId earlier, bool ofVolume)
    {
        try
        {
            using var entries = FolderReader.Entries(_chunks, earlier).GetEnumerator();
            var more = entries.MoveNext();
            foreach (var node in folder.Children!)
            {
                while (more && string.CompareOrdinal(entries.Current.Name, node.Name) < 0)
                    more = entries.MoveNext();
                if (more && entries.Current.Name == node.Name)
                    Match(node, entries.Current, ofVolume);
            }
        }
        catch (Exception problem) when (problem is BinaryFormatException or VembarException { Kind: ErrorKind.Damaged })
        {
            // What cannot be read of the earlier image is read from the source.
        }
    }

    private void Match(SourceNode node, TreeEntry entry, bool ofVolume)
    {
        if (node.Children is not null && entry.Kind == EntryKind.Folder)
            node.Earlier = entry.Folder;
        else if (node.Kind == EntryKind.File && entry.Content is { } content && content.Length == node.Length
            && (!_trustTimes || (entry.Modified == node.Modified
            && (ofVolume ? entry.Changed == node.Entry.Changed && entry.Created == node.Entry.Created : node.Changed < _before))))
            node.Content = content;
    }

    /// <summary>Matches everything below the root of a volume.</summary>
    /// <exception cref="OperationCanceledException">It was interrupted.</exception>
    internal async Task MatchVolumeAsync(SourceNode root, int workers, CancellationToken cancellation)
    {
        root.Earlier = Root;
        await WorkStealingRunner.RunAsync<SourceNode, object?>(root, workers, () => null, (folder, _, later) =>
        {
            Match(folder, folder.Earlier!.Value, ofVolume: true);
            foreach (var node in folder.Children!.Where(n => n.Earlier is not null))
                later(node);
        }, cancellation).ConfigureAwait(false);
    }
}
