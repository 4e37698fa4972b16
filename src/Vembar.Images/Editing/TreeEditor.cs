using Vembar.Common;
using Vembar.Common.Tasks;
using Vembar.Images.Contents;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Store.Format;
using Vembar.Store.Hashing;
using Vembar.Store.Writing;

namespace Vembar.Images.Editing;

/// <summary>
/// A tree that can be changed: folders are read when they are looked into, and saving writes those on the way to a
/// change and no others. Nothing reaches an archive before it is saved.
/// </summary>
public sealed class TreeEditor : IReadOnlyTree
{
    private readonly ImageTree _tree;
    private readonly Node _root;
    private bool _recount;

    /// <summary>An editor over an image's tree.</summary>
    public TreeEditor(ImageTree tree)
    {
        _tree = tree;
        _root = new Node(null, tree.Root);
    }

    /// <summary>An editor over some entries of a tree as if they were all of it.</summary>
    /// <param name="tree">Where they are from.</param>
    /// <param name="top">What stands at the top, each with its path in the tree; no two of the same name.</param>
    public TreeEditor(ImageTree tree, IEnumerable<(WindowsPath Path, TreeEntry Entry)> top)
    {
        _tree = tree;
        _root = new Node(null, new TreeEntry { Name = "", Kind = EntryKind.Folder });
        _root.Children = [.. top.Select(t => new TopNode(_root, t.Entry, t.Path))];
    }

    /// <summary>What became of an entry that is deployed.</summary>
    internal enum Placement : byte
    {
        /// <summary>Nothing yet.</summary>
        None,
        /// <summary>It was written.</summary>
        Made,
        /// <summary>What was there already was left.</summary>
        Kept,
    }

    /// <summary>A place in the tree.</summary>
    public class Node
    {
        internal Node(Node? parent, TreeEntry entry)
        {
            Parent = parent;
            Entry = entry;
        }

        internal Node? Parent { get; set; }
        internal List<Node>? Children { get; set; }
        internal bool Changed { get; set; }

        /// <summary>What a deployment did with it: there is a node for every file, so it keeps no list of its own.</summary>
        internal Placement Placement { get; set; }

        /// <summary>Where it is in the tree, when it was brought to the top of an editor; else null.</summary>
        internal virtual WindowsPath? At => null;

        /// <summary>What is there.</summary>
        public TreeEntry Entry { get; internal set; }

        /// <summary>Its path.</summary>
        public WindowsPath Path
        {
            get
            {
                var top = this;
                while (top.At is null && top.Parent is not null)
                    top = top.Parent;
                var below = WindowsPath.Below(top, this, static n => n.Parent, static n => n.Entry.Name);
                return top.At is null ? below : top.At.Append(below);
            }
        }
    }

    private sealed class TopNode(Node parent, TreeEntry entry, WindowsPath at) : Node(parent, entry)
    {
        internal override WindowsPath? At => at;
    }

    /// <inheritdoc/>
    public string DisplayName => _tree.DisplayName;

    /// <summary>The root.</summary>
    public Node Root => _root;

    /// <summary>True when anything was changed.</summary>
    public bool HasChanges => _root.Changed;

    /// <summary>Files added less files removed.</summary>
    public long FilesDelta { get; private set; }

    /// <summary>Folders added less folders removed.</summary>
    public long FoldersDelta { get; private set; }

    /// <summary>Bytes added less bytes removed; null when names of hard-linked files went, so that only a count can tell.</summary>
    public long? BytesDelta => _recount ? null : _bytes;

    /// <summary>Bytes added less bytes removed, counting each name of a hard-linked file.</summary>
    public long BytesChanged => _bytes;

    private long _bytes;

    /// <summary>Where the times of what is put in come from.</summary>
    public TimeProvider Clock { get; init; } = TimeProvider.System;

    private FileTime Now => FileTime.From(Clock.GetUtcNow().UtcDateTime);

    /// <summary>What is in a folder.</summary>
    public IReadOnlyList<Node> Children(Node folder) => Load(folder);

    /// <summary>Reads every folder that was not looked into yet.</summary>
    /// <param name="workers">How many at once.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <exception cref="VembarException">One is damaged.</exception>
    /// <exception cref="OperationCanceledException">It was ended.</exception>
    internal Task LoadAllAsync(int workers, CancellationToken cancellation) =>
        WorkStealingRunner.RunAsync<Node, object?>(_root, workers, () => null, (folder, _, later) =>
        {
            foreach (var node in Load(folder))
            {
                if (node.Entry.Kind == EntryKind.Folder)
                    later(node);
            }
        }, cancellation);

    private List<Node> Load(Node folder)
    {
        if (folder.Children is null)
        {
            folder.Children = folder.Entry.Kind != EntryKind.Folder || folder.Entry.Folder.IsNone
                ? [] : [.. _tree.Entries(folder.Entry, folder.Path).Select(e => new Node(folder, e))];
        }
        return folder.Children;
    }

    /// <summary>The node at a path, or null.</summary>
    public Node? Find(WindowsPath path)
    {
        var node = _root;
        foreach (var name in path.Parts)
        {
            var children = Load(node);
            var next = children.FirstOrDefault(c => c.Entry.Name == name) ?? children.FirstOrDefault(c => c.Entry.HasName(name));
            if (next is null)
                return null;
            node = next;
        }
        return node;
    }

    /// <inheritdoc/>
    public IReadOnlyList<string> Names(WindowsPath folder) => Find(folder) is { } node ? [.. Load(node).Select(c => c.Entry.Name)] : [];

    /// <inheritdoc/>
    public IReadOnlyList<string> Folders(WindowsPath folder) =>
        Find(folder) is { } node ? [.. Load(node).Where(c => c.Entry.Kind == EntryKind.Folder).Select(c => c.Entry.Name)] : [];

    /// <inheritdoc/>
    public bool Exists(WindowsPath path) => Find(path) is not null;

    /// <inheritdoc/>
    public byte[]? ReadFile(WindowsPath path, long max)
    {
        if (Find(path)?.Entry is not { Kind: EntryKind.File } entry)
            return null;
        return entry.New is { } fresh ? fresh.ToBytes(max) : _tree.ReadAll(entry.Content!, path, max);
    }

    /// <inheritdoc/>
    public byte[]? ReadStart(WindowsPath path, int count)
    {
        if (Find(path)?.Entry is not { Kind: EntryKind.File } entry)
            return null;
        if (entry.New is not { } fresh)
            return _tree.ReadStart(path, count);
        using var from = fresh.Open();
        var start = new byte[Math.Min(count, fresh.Length)];
        return start[..from.ReadAtLeast(start, start.Length, throwOnEndOfStream: false)];
    }

    /// <summary>The bytes of content that the archive holds.</summary>
    /// <exception cref="VembarException">It does not, or it is damaged or too long.</exception>
    public byte[] ReadContent(FileContent content, WindowsPath path, long max) => _tree.ReadAll(content, path, max);

    /// <summary>The folder at a path, made with all above it where it is missing.</summary>
    /// <exception cref="VembarException">A file is in the way.</exception>
    public Node EnsureFolder(WindowsPath path)
    {
        var node = _root;
        foreach (var name in path.Parts)
        {
            var children = Load(node);
            var next = children.FirstOrDefault(c => c.Entry.Name == name) ?? children.FirstOrDefault(c => c.Entry.HasName(name));
            if (next is null)
            {
                next = new Node(node, new TreeEntry
                {
                    Name = name,
                    Kind = EntryKind.Folder,
                    Modified = Now,
                    Attributes = node.Entry.Attributes is null ? null : WindowsAttributes.Directory,
                    Security = node.Entry.Security,
                    Owner = node.Entry.Owner,
                })
                { Children = [] };
                children.Add(next);
                FoldersDelta++;
                Mark(next);
            }
            else if (next.Entry.Kind != EntryKind.Folder)
                throw VembarException.Input("file-in-the-way", $"{DisplayName}: '{next.Path}' is a file, a folder was needed",
                    "Remove it first, or choose another path.");
            node = next;
        }
        return node;
    }

    /// <summary>Puts a file at a path, in place of the one that is there. What is kept of a replaced file: attributes, security,
    /// owner.</summary>
    /// <param name="path">Where.</param>
    /// <param name="content">What.</param>
    /// <param name="modified">Its time; now when null.</param>
    /// <exception cref="VembarException">A folder is in the way.</exception>
    public void PutFile(WindowsPath path, NewContent content, FileTime? modified = null)
    {
        if (path.IsRoot)
            throw VembarException.Input("bad-path", "a file cannot take the place of the root", "Give a path with a file name.");
        var folder = EnsureFolder(path.Parent);
        var name = path.Name;
        var node = Load(folder).FirstOrDefault(c => c.Entry.Name == name) ?? Load(folder).FirstOrDefault(c => c.Entry.HasName(name));
        if (node is { Entry.Kind: EntryKind.Folder })
            throw VembarException.Input("folder-in-the-way", $"{DisplayName}: '{node.Path}' is a folder, a file was to be put there",
                "Give the path with the file's name.");
        var time = modified ?? Now;
        if (node is null)
        {
            node = new Node(folder, new TreeEntry
            {
                Name = name,
                Kind = EntryKind.File,
                New = content.Stored is null ? content : null,
                Content = content.Stored,
                Modified = time,
                Created = folder.Entry.Created is null ? null : time,
                Attributes = folder.Entry.Attributes is null ? null : WindowsAttributes.Archive,
                Security = folder.Entry.Security,
                Owner = folder.Entry.Owner is { } owner ? owner with { Mode = owner.Mode & 0x1B6 } : null,
            });
            Load(folder).Add(node);
            FilesDelta++;
            _bytes += content.Length;
        }
        else
        {
            Uncount(node.Entry);
            _bytes += content.Length;
            // A file of its own from here on: other names of a hard-linked one keep the old content.
            node.Entry = node.Entry with
            {
                Kind = EntryKind.File,
                Content = content.Stored,
                New = content.Stored is null ? content : null,
                LinkTarget = null,
                LinkGroup = 0,
                Modified = time,
                Reparse = null,
                Compaction = CompactedForm.None,
            };
        }
        Mark(node);
    }

    /// <summary>Takes a file or a folder with all below it out of the tree.</summary>
    /// <returns>Files and bytes that went.</returns>
    public (long Files, long Bytes) Remove(Node node)
    {
        if (node.Parent is null)
            throw VembarException.Input("bad-path", "the root cannot be removed", "Give the path of something in it.");
        var (files, bytes) = Count(node);
        Load(node.Parent).Remove(node);
        Mark(node.Parent);
        return (files, bytes);
    }

    /// <summary>Moves a file or folder, with all that is known of it and all below it, to another path.</summary>
    /// <param name="node">What to move; not the root.</param>
    /// <param name="path">Where; a file that is there is removed first.</param>
    /// <exception cref="VembarException">A folder is in the way.</exception>
    public void Move(Node node, WindowsPath path)
    {
        Detach(node);
        Attach(node, path);
    }

    /// <summary>Takes a file or folder out of its place, for <see cref="Attach"/> to put it elsewhere.</summary>
    internal void Detach(Node node)
    {
        var from = node.Parent ?? throw new ArgumentException("the root cannot be moved", nameof(node));
        Load(from).Remove(node);
        Mark(from);
    }

    /// <summary>Puts what was taken out of its place to a path; a file that is there is removed first.</summary>
    /// <exception cref="VembarException">A folder is in the way.</exception>
    internal void Attach(Node node, WindowsPath path)
    {
        var folder = EnsureFolder(path.Parent);
        if (Load(folder).Find(c => c.Entry.HasName(path.Name)) is { } there)
        {
            if (there.Entry.Kind == EntryKind.Folder)
                throw VembarException.Input("folder-in-the-way",
                    $"{DisplayName}: '{path}' is a folder, something else was to be put there", "Remove it first.");
            Remove(there);
        }
        node.Parent = folder;
        node.Entry = node.Entry with { Name = path.Name };
        Load(folder).Add(node);
        Mark(node);
    }

    /// <summary>Puts another file with the same content and all that is known of a file to a path.</summary>
    public void Copy(Node node, WindowsPath path)
    {
        var folder = EnsureFolder(path.Parent);
        var copy = new Node(folder, node.Entry with { Name = path.Name });
        Load(folder).Add(copy);
        FilesDelta++;
        _recount |= node.Entry.LinkGroup != 0;
        _bytes += node.Entry.Length;
        Mark(copy);
    }

    /// <summary>Keeps some paths with what is below them and what leads to them, and forgets the rest of the tree. For looking only:
    /// nothing is marked as changed.</summary>
    /// <returns>Those paths that are not there.</returns>
    internal IReadOnlyList<WindowsPath> KeepOnly(IReadOnlyList<WindowsPath> paths)
    {
        var missing = paths.Where(p => Find(p) is null).ToList();
        var kept = paths.Select(Find).OfType<Node>().ToHashSet();
        var leading = kept.SelectMany(Above).ToHashSet();
        void Keep(Node folder)
        {
            if (kept.Contains(folder))
                return;
            folder.Children = Load(folder).FindAll(c => kept.Contains(c) || leading.Contains(c));
            folder.Children.FindAll(c => c.Entry.Kind == EntryKind.Folder).ForEach(Keep);
        }
        Keep(_root);
        return missing;
    }

    /// <summary>The parts of the content of an entry that is stored.</summary>
    internal IReadOnlyList<ContentPart> PartsOf(TreeEntry entry, WindowsPath path) => _tree.Parts(entry.Content!, path);

    private static IEnumerable<Node> Above(Node node)
    {
        for (var at = node.Parent; at is not null; at = at.Parent)
            yield return at;
    }

    /// <summary>Gives a file other content, with all else that is known of it as it was.</summary>
    /// <param name="node">The file.</param>
    /// <param name="content">The content.</param>
    /// <param name="modified">Its time.</param>
    /// <param name="staysLinked">Whether its other names get the same content, so that it stays one file with them.</param>
    internal void Rewrite(Node node, NewContent content, FileTime? modified, bool staysLinked)
    {
        Uncount(node.Entry);
        _bytes += content.Length;
        node.Entry = node.Entry with
        {
            Content = content.Stored,
            New = content.Stored is null ? content : null,
            Modified = modified,
            LinkGroup = staysLinked ? node.Entry.LinkGroup : 0,
        };
        Mark(node);
    }

    /// <summary>Makes a file one with those of a group, or one of its own.</summary>
    /// <param name="node">The file.</param>
    /// <param name="group">The group; 0 for none.</param>
    internal void Relink(Node node, ulong group)
    {
        _recount |= node.Entry.LinkGroup != group;
        node.Entry = node.Entry with { LinkGroup = group };
        Mark(node);
    }

    /// <summary>Changes what is known of a file or folder, beside its name and content.</summary>
    internal static void Set(Node node, Func<TreeEntry, TreeEntry> change)
    {
        node.Entry = change(node.Entry);
        Mark(node);
    }

    /// <summary>Puts a symbolic link of Linux at a path where nothing is.</summary>
    internal void PutLink(WindowsPath path, TreeEntry link)
    {
        var folder = EnsureFolder(path.Parent);
        var node = new Node(folder, link with { Name = path.Name });
        Load(folder).Add(node);
        FilesDelta++;
        Mark(node);
    }

    /// <summary>Sets a file's attributes.</summary>
    public static void SetAttributes(Node node, WindowsAttributes attributes)
    {
        node.Entry = node.Entry with { Attributes = attributes };
        Mark(node);
    }

    /// <summary>Gives a file content that the archive holds already.</summary>
    public void SetContent(Node node, FileContent content, FileTime? modified)
    {
        Uncount(node.Entry);
        node.Entry = node.Entry with { Content = content, New = null, Modified = modified };
        _bytes += content.Length;
        Mark(node);
    }

    private (long Files, long Bytes) Count(Node node)
    {
        if (node.Entry.Kind != EntryKind.Folder)
        {
            FilesDelta--;
            Uncount(node.Entry);
            return (1, node.Entry.Length);
        }
        FoldersDelta--;
        var sum = (Files: 0L, Bytes: 0L);
        foreach (var child in Load(node))
        {
            var (files, bytes) = Count(child);
            sum = (sum.Files + files, sum.Bytes + bytes);
        }
        return sum;
    }

    private void Uncount(TreeEntry entry)
    {
        _recount |= entry.LinkGroup != 0;
        _bytes -= entry.Length;
    }

    private static void Mark(Node node)
    {
        for (var at = node; at is not null && !(at.Changed && at != node); at = at.Parent)
            at.Changed = true;
    }

    /// <summary>Stores what was changed and returns the new root's id.</summary>
    public ChunkId Save(IChunkSink sink) =>
        HasChanges ? FolderWriter.Write(sink, [Save(sink, _root)]) : throw new InvalidOperationException("nothing was changed");

    private static TreeEntry Save(IChunkSink sink, Node node)
    {
        if (!node.Changed)
            return node.Entry;
        if (node.Entry.PendingSecurity is { } descriptor)
            node.Entry = node.Entry with { Security = sink.Add(BlockKind.Tree, descriptor), PendingSecurity = null };
        if (node.Entry.Kind == EntryKind.Folder)
        {
            if (node.Children is not null)
                node.Entry = node.Entry with { Folder = FolderWriter.Write(sink, [.. node.Children.Select(c => Save(sink, c))]) };
        }
        else if (node.Entry.New is { } fresh)
            node.Entry = node.Entry with { Content = ContentStore.Add(sink, fresh), New = null };
        node.Changed = false;
        return node.Entry;
    }
}
