using Vembar.Common;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Store.Format;
using Vembar.Store.Hashing;
using Vembar.Store.Reading;
using Vembar.Store.Writing;

namespace Vembar.Operations.Verify;

/// <summary>Puts images of a damaged archive into a new one. A folder below which nothing is lost is taken as it stands, and looked at once
/// however many images hold it; others are written anew without what is lost.</summary>
/// <param name="scan">What was found.</param>
/// <param name="writer">The new archive.</param>
/// <param name="lost">Gets what could not be saved.</param>
/// <param name="began">Told now and then, with the image.</param>
/// <param name="cancellation">Ends it.</param>
internal sealed class ImageRecovery(RecoveryScan scan, ArchiveWriter writer, List<Damage> lost, Action<ImageRecord> began,
    CancellationToken cancellation) : IChunkSource
{
    private readonly Dictionary<ChunkId, (long Files, long Folders)> _whole = [];
    private List<ChunkId> _read = [];
    private ImageRecord _image = null!;
    private long _files, _folders;

    /// <summary>Saves an image.</summary>
    /// <returns>Its record in the new archive; null when nothing of it can be read.</returns>
    /// <exception cref="OperationCanceledException">It was ended.</exception>
    public ImageRecord? Save(ImageRecord record)
    {
        (_image, _files, _folders) = (record, 0, 0);
        began(record);
        try
        {
            _read = [];
            var tree = new ImageTree(this, record.Root, $"image {record.Number}");
            var own = _read;
            var root = Folder(tree, tree.Root, WindowsPath.Root);
            if (ReferenceEquals(root, tree.Root))
                Take(own);
            return record with
            {
                Root = ReferenceEquals(root, tree.Root) ? record.Root : FolderWriter.Write(writer, [root]),
                Files = _files,
                Folders = _folders,
            };
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged)
        {
            Lose(WindowsPath.Root, "the whole image");
            return null;
        }
    }

    /// <inheritdoc/>
    bool IChunkSource.Contains(ChunkId id) => scan.Contains(id);

    /// <inheritdoc/>
    ReadOnlyMemory<byte> IChunkSource.Read(ChunkId id)
    {
        _read.Add(id);
        return scan.Read(id);
    }

    private void Lose(WindowsPath path, string problem) => lost.Add(new Damage(_image.Number, path.ToString(), problem));

    private void Take(IEnumerable<ChunkId> ids)
    {
        foreach (var id in ids)
            scan.Take(id, BlockKind.Tree, writer);
    }

    // The folder itself where nothing below it is lost.
    private TreeEntry Folder(ImageTree tree, TreeEntry folder, WindowsPath path)
    {
        cancellation.ThrowIfCancellationRequested();
        if (_whole.TryGetValue(folder.Folder, out var known))
        {
            _files += known.Files;
            _folders += known.Folders;
            return folder;
        }
        var (files, folders, lostBefore) = (_files, _folders, lost.Count);
        _folders++;
        if (_folders % 256 == 0)
            began(_image);
        _read = [];
        var entries = tree.List(folder, path);
        var pages = _read;
        var children = new List<TreeEntry>(entries.Count);
        foreach (var entry in entries)
        {
            var own = path.Child(entry.Name);
            try
            {
                children.Add(Child(tree, entry, own));
            }
            catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged)
            {
                Lose(own, entry.Kind == EntryKind.Folder ? "the folder and all below it" : "its content");
            }
        }
        if (lost.Count > lostBefore)
            return folder with { Folder = FolderWriter.Write(writer, children) };
        Take(pages);
        _whole[folder.Folder] = (_files - files, _folders - folders);
        return folder;
    }

    private TreeEntry Child(ImageTree tree, TreeEntry entry, WindowsPath path)
    {
        if (!entry.Security.IsNone)
            scan.Take(entry.Security, BlockKind.Tree, writer);
        foreach (var stream in entry.Streams)
            Content(tree, stream.Content, path);
        if (entry.Content is { } content)
            Content(tree, content, path);
        _files += entry.Kind == EntryKind.Folder ? 0 : 1;
        return entry.Kind == EntryKind.Folder ? Folder(tree, entry, path) : entry;
    }

    // Its lists of parts too.
    private void Content(ImageTree tree, FileContent content, WindowsPath path)
    {
        _read = [];
        var parts = tree.Parts(content, path);
        Take(_read);
        foreach (var part in parts)
        {
            if (!part.IsHole)
                scan.Take(part.Id, BlockKind.Content, writer);
        }
    }
}
