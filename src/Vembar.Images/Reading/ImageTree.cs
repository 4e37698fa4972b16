using Vembar.Common;
using Vembar.Common.Formats;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Store.Hashing;
using Vembar.Store.Reading;

namespace Vembar.Images.Reading;

/// <summary>The tree of an image, read as far as it is looked at.</summary>
public sealed class ImageTree : IReadOnlyTree
{
    // Looking for one path after the other goes through the same folders again and again.
    private const int KeptFolders = 8;
    private readonly IChunkSource _source;
    private readonly List<(ChunkId Id, List<TreeEntry> Entries)> _kept = [];
    private readonly Lock _gate = new();

    /// <summary>The tree below a root node.</summary>
    /// <param name="source">Where its chunks are.</param>
    /// <param name="root">The root node's id, from an image's record.</param>
    /// <param name="displayName">What it is, for messages.</param>
    /// <exception cref="VembarException">The root is damaged.</exception>
    public ImageTree(IChunkSource source, ChunkId root, string displayName)
    {
        _source = source;
        DisplayName = displayName;
        Root = Decoded(WindowsPath.Root, () => FolderReader.Read(source, root)) is [{ Kind: EntryKind.Folder } only]
            ? only : throw VembarException.Damaged($"{displayName}: its root is not a folder");
    }

    /// <inheritdoc/>
    public string DisplayName { get; }

    /// <summary>The root folder itself; its name is empty.</summary>
    public TreeEntry Root { get; }

    private T Decoded<T>(WindowsPath path, Func<T> read)
    {
        try
        {
            return read();
        }
        catch (Exception problem) when (Wrap(problem, path) is { } told)
        {
            throw told;
        }
    }

    // What is said of a problem with something at a path; null when nothing needs to be added.
    private VembarException? Wrap(Exception problem, WindowsPath path) => problem switch
    {
        BinaryFormatException => VembarException.Damaged($"{DisplayName}: the folder '{path}' cannot be read: {problem.Message}"),
        VembarException { Kind: ErrorKind.Damaged } when !path.IsRoot
            && !problem.Message.Contains(path.ToString(), StringComparison.Ordinal)
            => VembarException.Damaged($"{DisplayName}: '{path}' cannot be read: {problem.Message}"),
        _ => null,
    };

    /// <summary>The entries of a folder, sorted by name.</summary>
    /// <param name="folder">A folder of this tree.</param>
    /// <param name="path">Its path, for messages.</param>
    /// <exception cref="VembarException">It is damaged.</exception>
    public IReadOnlyList<TreeEntry> List(TreeEntry folder, WindowsPath path)
    {
        if (Kept(folder) is { } kept)
            return kept;
        var entries = Read(folder, path);
        lock (_gate)
        {
            _kept.Add((folder.Folder, entries));
            if (_kept.Count > KeptFolders)
                _kept.RemoveAt(0);
        }
        return entries;
    }

    private List<TreeEntry>? Kept(TreeEntry folder)
    {
        lock (_gate)
        {
            if (_kept.FindIndex(k => k.Id == folder.Folder) is not (>= 0 and var at))
                return null;
            var kept = _kept[at];
            _kept.RemoveAt(at);
            _kept.Add(kept);
            return kept.Entries;
        }
    }

    private List<TreeEntry> Read(TreeEntry folder, WindowsPath path) => Decoded(path, () =>
    {
        CheckDepth(path);
        var entries = FolderReader.Read(_source, folder.Folder);
        // Sorted, so an empty name could only be the first.
        CheckName(entries.FirstOrDefault());
        return entries;
    });

    // Nobody who goes down a tree can be led deeper than anybody can have written.
    private void CheckDepth(WindowsPath path)
    {
        if (path.Parts.Count > TreeLimits.MaxDepth)
            throw VembarException.Damaged($"{DisplayName}: more than {TreeLimits.MaxDepth} folders lie below each other");
    }

    // The root alone has no name.
    private static void CheckName(TreeEntry? entry)
    {
        if (entry is { Name: "" })
            throw new BinaryFormatException("folder", 0, "an entry has no name");
    }

    /// <summary>As <see cref="List"/>, one entry after the other; a folder of very many is never in memory as a whole.</summary>
    /// <exception cref="VembarException">It is damaged.</exception>
    public IEnumerable<TreeEntry> Entries(TreeEntry folder, WindowsPath path)
    {
        CheckDepth(path);
        IEnumerable<TreeEntry> all = Kept(folder) is { } kept ? kept : FolderReader.Entries(_source, folder.Folder);
        using var entries = all.GetEnumerator();
        bool Next()
        {
            var more = entries.MoveNext();
            if (more)
                CheckName(entries.Current);
            return more;
        }
        while (Decoded(path, Next))
            yield return entries.Current;
    }

    /// <summary>The chunks that a folder's entries are in.</summary>
    /// <exception cref="VembarException">It is damaged.</exception>
    internal IReadOnlyList<ChunkId> Pages(TreeEntry folder, WindowsPath path) =>
        Decoded(path, () => FolderReader.Pages(_source, folder.Folder));

    /// <summary>The entry at a path, or null. A name that matches to the letter goes before one that differs in case.</summary>
    public TreeEntry? Find(WindowsPath path)
    {
        var entry = Root;
        var at = WindowsPath.Root;
        foreach (var name in path.Parts)
        {
            if (entry.Kind != EntryKind.Folder)
                return null;
            var next = Pick(entry, at, name);
            if (next is null)
                return null;
            entry = next;
            at = at.Child(entry.Name);
        }
        return entry;
    }

    // Entries are sorted by name, so only one that differs in case is looked for among all.
    private TreeEntry? Pick(TreeEntry folder, WindowsPath path, string name)
    {
        TreeEntry? found = null;
        if (Kept(folder) is not null || !Decoded(path, () => FolderReader.TryFindInPages(_source, folder.Folder, name, out found)))
        {
            var entries = List(folder, path);
            for (int low = 0, high = entries.Count - 1; low <= high && found is null;)
            {
                var middle = (low + high) >>> 1;
                var order = string.CompareOrdinal(entries[middle].Name, name);
                found = order == 0 ? entries[middle] : null;
                (low, high) = order < 0 ? (middle + 1, high) : (low, middle - 1);
            }
        }
        return found ?? Entries(folder, path).FirstOrDefault(e => e.HasName(name));
    }

    /// <summary>The parts of a content.</summary>
    /// <exception cref="VembarException">They are damaged.</exception>
    public IReadOnlyList<ContentPart> Parts(FileContent content, WindowsPath path) =>
        Decoded(path, () => FolderReader.Parts(_source, content));

    /// <summary>How many bytes of a content are no holes.</summary>
    /// <param name="content">The content; null for one that is not stored yet.</param>
    /// <param name="length">Its length.</param>
    /// <param name="path">Gives its path, for messages.</param>
    /// <exception cref="VembarException">Its list of parts is damaged.</exception>
    internal long DataLength(FileContent? content, long length, Func<WindowsPath> path) =>
        content is null or { IsOneChunk: true } || length == 0
        ? length : Parts(content, path()).Sum(p => p.IsHole ? 0 : p.Length);

    /// <summary>Hands a content piece by piece to an action, in order; holes are passed over.</summary>
    /// <param name="content">The content.</param>
    /// <param name="path">Gives its path, for messages.</param>
    /// <param name="action">Given each piece.</param>
    /// <exception cref="VembarException">A piece is damaged; the message names the path.</exception>
    public void Pieces(FileContent content, Func<WindowsPath> path, PieceAction action)
    {
        var at = 0L;
        try
        {
            foreach (var part in FolderReader.Parts(_source, content))
            {
                if (!part.IsHole)
                {
                    _source.Use(part.Id, bytes =>
                    {
                        if (bytes.Length != part.Length)
                            throw VembarException.Damaged($"{DisplayName}: '{path()}' has a piece of another length than it says");
                        action(bytes, at);
                    });
                }
                at += part.Length;
            }
        }
        catch (Exception problem) when (Wrap(problem, path()) is { } told)
        {
            throw told;
        }
    }

    /// <summary>A content as one array.</summary>
    /// <exception cref="VembarException">It is damaged or longer than <paramref name="max"/>.</exception>
    public byte[] ReadAll(FileContent content, WindowsPath path, long max)
    {
        if (content.Length > max)
            throw VembarException.Input("file-too-large",
                $"{DisplayName}: '{path}' is {content.Length} bytes long; at most {max} can be read here");
        var bytes = new byte[content.Length];
        Pieces(content, () => path, (piece, at) => piece.CopyTo(bytes.AsSpan((int)at)));
        return bytes;
    }

    /// <summary>A content as arrays that follow each other. Those that are known already are not read and not held once more.</summary>
    /// <param name="content">The content.</param>
    /// <param name="path">Its path, for messages.</param>
    /// <param name="max">The most bytes that there may be.</param>
    /// <param name="known">Arrays by their ids; the ones that are read are added.</param>
    /// <exception cref="VembarException">It is damaged or longer than <paramref name="max"/>.</exception>
    internal IReadOnlyList<byte[]> ReadShared(FileContent content, WindowsPath path, long max, Dictionary<ChunkId, byte[]> known)
    {
        if (content.Length > max)
            throw VembarException.Input("file-too-large",
                $"{DisplayName}: '{path}' is {content.Length} bytes long; at most {max} can be read here");
        var pieces = new List<byte[]>();
        foreach (var part in Parts(content, path))
        {
            if (part.IsHole)
                pieces.Add(new byte[part.Length]);
            else if (known.TryGetValue(part.Id, out var piece) && piece.Length == part.Length)
                pieces.Add(piece);
            else
                pieces.Add(known[part.Id] = ReadAll(new FileContent(part.Length, part.Id), path, max));
        }
        return pieces;
    }

    /// <summary>Everything below a folder with its path, folders before what is in them, in the order of names.</summary>
    public IEnumerable<(WindowsPath Path, TreeEntry Entry)> Walk(TreeEntry folder, WindowsPath path)
    {
        foreach (var entry in Entries(folder, path))
        {
            var own = path.Child(entry.Name);
            yield return (own, entry);
            if (entry.Kind == EntryKind.Folder)
            {
                foreach (var below in Walk(entry, own))
                    yield return below;
            }
        }
    }

    /// <inheritdoc/>
    public IReadOnlyList<string> Names(WindowsPath folder) =>
        Find(folder) is { Kind: EntryKind.Folder } entry ? [.. Entries(entry, folder).Select(e => e.Name)] : [];

    /// <inheritdoc/>
    public IReadOnlyList<string> Folders(WindowsPath folder) =>
        Find(folder) is { Kind: EntryKind.Folder } entry
        ? [.. Entries(entry, folder).Where(e => e.Kind == EntryKind.Folder).Select(e => e.Name)] : [];

    /// <inheritdoc/>
    public bool Exists(WindowsPath path) => Find(path) is not null;

    /// <inheritdoc/>
    public byte[]? ReadFile(WindowsPath path, long max) => Find(path) is { Content: { } content } ? ReadAll(content, path, max) : null;

    /// <inheritdoc/>
    public byte[]? ReadStart(WindowsPath path, int count)
    {
        if (Find(path) is not { Content: { } content })
            return null;
        var start = new byte[Math.Min(count, content.Length)];
        var at = 0L;
        foreach (var part in Parts(content, path).TakeWhile(_ => at < start.Length))
        {
            var to = start.AsSpan((int)at).ToArray();
            if (!part.IsHole)
                Pieces(new FileContent(part.Length, part.Id), () => path,
                    (piece, _) => piece[..Math.Min(piece.Length, to.Length)].CopyTo(to));
            to.CopyTo(start.AsSpan((int)at));
            at += part.Length;
        }
        return start;
    }
}
