using Vembar.Images.Editing;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Native;
using Vembar.Store.Hashing;
using Vembar.Volumes.Sources;

namespace Vembar.Operations.Workspaces;

/// <summary>Finds out what was changed in a workspace, and makes the same changes in the image's tree.</summary>
/// <remarks>A file whose length, times and number are as they were is not read. Any other is read and compared, so that touching or
/// copying is no change.</remarks>
internal sealed class WorkspaceChanges
{
    private readonly TreeEditor _editor;
    private readonly FolderSource _source;
    private readonly string _folder;
    private readonly bool _isLinux, _isWindows;
    private readonly CancellationToken _cancellation;
    private readonly List<WorkspaceChange> _changes = [];
    private readonly List<string> _problems = [];
    private readonly List<Action> _steps = [];
    private readonly List<(SourceNode Node, WindowsPath Path)> _added = [];
    private readonly List<(LaidEntry Laid, TreeEditor.Node Base, WindowsPath Path)> _removed = [];

    private WorkspaceChanges(TreeEditor editor, FolderSource source, string folder, bool isWindows, CancellationToken cancellation)
    {
        _editor = editor;
        _source = source;
        _folder = folder;
        _isLinux = editor.Root.Entry.Owner is not null;
        _isWindows = isWindows;
        _cancellation = cancellation;
    }

    /// <summary>The changes, by path.</summary>
    public IReadOnlyList<WorkspaceChange> All => [.. _changes.OrderBy(c => c.Path, StringComparer.Ordinal)];

    /// <summary>What stands in the way of saving.</summary>
    public IReadOnlyList<string> Problems => _problems;

    /// <summary>Files whose content was read: to compare it, and once more to store it.</summary>
    public long FilesRead { get; private set; }

    /// <summary>Laid files, and those of them that are gone.</summary>
    public (long Laid, long Gone) Files { get; private set; }

    /// <summary>Compares a workspace with its image.</summary>
    /// <param name="editor">The image's tree, whole. It is not changed before <see cref="Make"/>.</param>
    /// <param name="laid">What was laid.</param>
    /// <param name="source">The workspace's folder.</param>
    /// <param name="now">What is there now.</param>
    /// <param name="folder">Its path.</param>
    /// <param name="isWindows">Whether the image holds Windows, so that new names must be such as it can open.</param>
    /// <param name="metadata">The metadata file's bytes when it was touched; else null.</param>
    /// <param name="cancellation">Ends it.</param>
    public static WorkspaceChanges Find(TreeEditor editor, LaidEntry laid, FolderSource source, SourceTree now, string folder,
        bool isWindows, byte[]? metadata, CancellationToken cancellation)
    {
        var changes = new WorkspaceChanges(editor, source, folder, isWindows, cancellation);
        changes._problems.AddRange(now.Excluded.Where(l => !l.Path.StartsWith(Workspace.OwnFolder, StringComparison.Ordinal))
            .Select(l => $"'{l.Path}' is {l.Rule}, which no image holds"));
        changes.Compare(now.Root, laid, editor.Root, WindowsPath.Root);
        changes.Moves();
        changes.Links();
        changes.Removals();
        changes.Additions();
        if (metadata is not null)
            changes.Metadata(metadata);
        var files = laid.All().Count(e => e.Entry.Kind != EntryKind.Folder);
        changes.Files =
            (files, changes._removed.Sum(r => r.Laid.All().Select(e => e.Entry).Append(r.Laid)
            .Count(e => e.Kind != EntryKind.Folder && !changes._moved.Contains(e))));
        return changes;
    }

    /// <summary>Makes the changes in the tree.</summary>
    public void Make() => _steps.ForEach(s => s());

    private void Compare(SourceNode folder, LaidEntry laid, TreeEditor.Node original, WindowsPath path)
    {
        _cancellation.ThrowIfCancellationRequested();
        var there = laid.Children.ToDictionary(c => c.Name);
        var originals = _editor.Children(original).ToDictionary(c => c.Entry.Name);
        var listed = false;
        foreach (var node in folder.Children!)
        {
            var own = path.Child(node.Name);
            if (!there.Remove(node.Name, out var before))
            {
                _added.Add((node, own));
                listed = true;
            }
            else if (before.Kind != node.Kind || !originals.TryGetValue(node.Name, out var entry))
            {
                _added.Add((node, own));
                if (originals.TryGetValue(node.Name, out var replaced))
                    _removed.Add((before, replaced, own));
                listed = true;
            }
            else
                CompareEntry(node, before, entry, own, "");
        }
        foreach (var gone in there.Values)
        {
            if (originals.TryGetValue(gone.Name, out var entry))
                _removed.Add((gone, entry, path.Child(gone.Name)));
            listed = true;
        }
        // A folder's time tells of its list alone; editors' own temporary files come and go.
        if (listed && folder.Parent is not null && folder.Modified is { } time)
            _steps.Add(() => TreeEditor.Set(original, e => e with { Modified = time }));
    }

    private void CompareEntry(SourceNode node, LaidEntry laid, TreeEditor.Node original, WindowsPath path, string from)
    {
        var what = new List<string>();
        var bytes = 0L;
        if (_isLinux && node.Entry.Owner is { } owner && owner != laid.Owner)
        {
            what.Add("owner");
            _steps.Add(() => TreeEditor.Set(original, e => e with { Owner = owner }));
        }
        if (node.Kind == EntryKind.Folder)
        {
            if (from.Length > 0 || what.Count > 0)
                _changes.Add(new WorkspaceChange(from.Length > 0 ? WorkspaceChangeKind.Moved : WorkspaceChangeKind.Changed,
                    path.ToString(), from, what, 0));
            Compare(node, laid, original, path);
            return;
        }
        if (node.Kind == EntryKind.Link && node.Entry.LinkTarget != original.Entry.LinkTarget)
        {
            what.Add("link");
            var target = node.Entry.LinkTarget;
            _steps.Add(() => TreeEditor.Set(original, e => e with { LinkTarget = target, Modified = node.Modified }));
        }
        else if (node.Kind == EntryKind.File && !laid.IsUntouched(node))
        {
            if (original.Entry.Content is { } content
                && ((node.HardLinkOf ?? node).Length != content.Length || HashOf(node) != content.Hash))
            {
                what.Add("content");
                bytes = (node.HardLinkOf ?? node).Length - content.Length;
                // Written in place, all names of a hard-linked file have what was written.
                var linked = node.FileId == laid.FileId;
                _steps.Add(() => _editor.Rewrite(original, Fresh(node), node.Modified, linked));
                if (original.Entry.Attributes is not null)
                    _steps.Add(() => TreeEditor.Set(original, e => e with
                    {
                        Attributes = (e.Attributes & ~WindowsAttributes.Normal) | WindowsAttributes.Archive,
                        Changed = e.Changed is null ? null : node.Modified,
                    }));
            }
            else if (node.Modified != laid.Modified)
            {
                what.Add("time");
                _steps.Add(() => TreeEditor.Set(original, e => e with { Modified = node.Modified }));
            }
            if (_isLinux && !SameAttributes(node.Entry.PosixAttributes, original.Entry.PosixAttributes))
            {
                what.Add("extended attributes");
                _steps.Add(() => TreeEditor.Set(original, e => e with { PosixAttributes = node.Entry.PosixAttributes }));
            }
        }
        if (node.Kind == EntryKind.File && original.Entry.LinkGroup != 0)
            _linked.Add((original, node, laid, path, from.Length > 0 || what.Count > 0));
        if (from.Length > 0)
            _changes.Add(new WorkspaceChange(WorkspaceChangeKind.Moved, path.ToString(), from, what, bytes));
        else if (what.Count > 0)
            _changes.Add(new WorkspaceChange(WorkspaceChangeKind.Changed, path.ToString(), "", what, bytes));
    }

    // Names of hard-linked files that are still there, and whether they are told already.
    private readonly List<(TreeEditor.Node Base, SourceNode Node, LaidEntry Laid, WindowsPath Path, bool IsTold)> _linked = [];

    // A name that is another file now is no name of the old one any more: what is done to that is not done to it.
    private void Links()
    {
        foreach (var group in _linked.GroupBy(l => l.Base.Entry.LinkGroup))
        {
            var files = group.GroupBy(l => l.Node.FileId).ToList();
            if (files.Count == 1)
                continue;
            var kept = files.Find(f => f.Any(l => l.Node.FileId == l.Laid.FileId)) ?? files[0];
            foreach (var (original, node, _, path, isTold) in files.Where(f => f != kept).SelectMany(f => f))
            {
                _steps.Add(() => _editor.Relink(original, node.Entry.LinkGroup));
                if (!isTold)
                    _changes.Add(new WorkspaceChange(WorkspaceChangeKind.Changed, path.ToString(), "", ["hard link"], 0));
            }
        }
    }

    private static bool SameAttributes(IReadOnlyList<NamedValue> one, IReadOnlyList<NamedValue> other) => one.Count == other.Count
        && one.OrderBy(a => a.Name, StringComparer.Ordinal).Zip(other.OrderBy(a => a.Name, StringComparer.Ordinal))
        .All(p => p.First.Name == p.Second.Name && p.First.Value.AsSpan().SequenceEqual(p.Second.Value));

    // What has the file number of something that is gone is that, under another name.
    private void Moves()
    {
        var gone = new Dictionary<ulong, (LaidEntry Laid, TreeEditor.Node Base, WindowsPath Path)>();
        void Index((LaidEntry Laid, TreeEditor.Node Base, WindowsPath Path) removed)
        {
            gone[removed.Laid.FileId] = removed;
            _leaving.Add(removed.Base);
            var originals = removed.Laid.Children.Count > 0 ? _editor.Children(removed.Base).ToDictionary(c => c.Entry.Name) : [];
            foreach (var child in removed.Laid.Children)
            {
                if (originals.TryGetValue(child.Name, out var original))
                    Index((child, original, removed.Path.Child(child.Name)));
            }
        }
        _removed.ForEach(Index);
        for (var i = 0; i < _added.Count; i++)
        {
            var (node, path) = _added[i];
            if (!gone.TryGetValue(node.FileId, out var was) || was.Laid.Kind != node.Kind || _moved.Contains(was.Laid)
                || (node.Kind != EntryKind.Folder
                && (was.Laid.Length != (node.HardLinkOf ?? node).Length || was.Laid.Modified != node.Modified)))
            {
                // A new folder may hold what was elsewhere: then what is in it stands in the list by itself.
                if (node.Kind == EntryKind.Folder && Below(node).Any(n => gone.ContainsKey(n.FileId)))
                {
                    _added.AddRange(node.Children!.Select(c => (c, path.Child(c.Name))));
                    _opened.Add(node);
                }
                continue;
            }
            _removed.RemoveAll(r => r.Base == was.Base);
            _moved.UnionWith(was.Laid.All().Select(e => e.Entry).Append(was.Laid));
            _added.RemoveAt(i--);
            if (!CheckName(path))
                continue;
            _steps.Add(() => _editor.Detach(was.Base));
            _arrivals.Add(() => _editor.Attach(was.Base, path));
            CompareEntry(node, was.Laid, was.Base, path, was.Path.ToString());
        }
    }

    private readonly List<Action> _arrivals = [];

    // Entries of the image whose names are given up.
    private readonly HashSet<TreeEditor.Node> _leaving = [];

    private readonly HashSet<LaidEntry> _moved = new(ReferenceEqualityComparer.Instance);

    // New folders whose children stand in the list by themselves.
    private readonly HashSet<SourceNode> _opened = [];

    private static IEnumerable<SourceNode> Below(SourceNode folder) => (folder.Children ?? []).SelectMany(c => Below(c).Prepend(c));

    // What goes elsewhere has left by now, and arrives when the names are free.
    private void Removals()
    {
        foreach (var (laid, original, path) in _removed)
        {
            _changes.Add(new WorkspaceChange(WorkspaceChangeKind.Removed, path.ToString(), "", [],
                -laid.All().Select(e => e.Entry).Append(laid).Where(e => e.Kind == EntryKind.File && !_moved.Contains(e))
                .Sum(e => e.Length)));
            _steps.Add(() => _editor.Remove(original));
        }
        _steps.AddRange(_arrivals);
    }

    private void Additions()
    {
        foreach (var (node, path) in _added)
            Add(node, path);
    }

    private void Add(SourceNode node, WindowsPath path)
    {
        _cancellation.ThrowIfCancellationRequested();
        if (!CheckName(path))
            return;
        var children = node.Kind == EntryKind.Folder && !_opened.Contains(node) ? node.Children! : [];
        _changes.Add(new WorkspaceChange(WorkspaceChangeKind.Added, path.ToString(), "", [],
            node.Kind == EntryKind.File ? (node.HardLinkOf ?? node).Length : 0));
        _steps.Add(() =>
        {
            switch (node.Kind)
            {
                case EntryKind.Folder:
                    _editor.EnsureFolder(path);
                    break;
                case EntryKind.Link:
                    _editor.PutLink(path, new TreeEntry
                    {
                        Name = path.Name,
                        Kind = EntryKind.Link,
                        LinkTarget = node.Entry.LinkTarget,
                        Modified = node.Modified,
                    });
                    break;
                default:
                    _editor.PutFile(path, Fresh(node), node.Modified);
                    break;
            }
            if (_editor.Find(path) is not { } made)
                return;
            TreeEditor.Set(made, e => e with { Modified = node.Modified });
            if (_isLinux)
                TreeEditor.Set(made, e => e with { Owner = node.Entry.Owner, PosixAttributes = node.Entry.PosixAttributes });
        });
        foreach (var child in children)
            Add(child, path.Child(child.Name));
    }

    private bool CheckName(WindowsPath path)
    {
        if (_isWindows && !WindowsPath.IsUsableName(path.Name))
            _problems.Add($"'{path}' has a name that Windows cannot open");
        else if (_editor.Find(path.Parent) is { } parent
            && _editor.Children(parent).FirstOrDefault(c => c.Entry.HasName(path.Name) && !_leaving.Contains(c)) is { } there)
        {
            // What was not laid open is still in the image.
            _problems.Add(there.Entry.Name == path.Name ? $"'{path}' is in the image, and was not laid open"
                : $"'{path}' and '{there.Entry.Name}' differ in nothing but case, which Windows does not tell");
        }
        else
            return true;
        return false;
    }

    private ChunkId? HashOf(SourceNode node)
    {
        FilesRead++;
        try
        {
            using var file = _source.Open(node);
            var hash = new Blake3();
            var buffer = new byte[1 << 18];
            for (var at = 0L; ;)
            {
                _cancellation.ThrowIfCancellationRequested();
                var got = file.Read(buffer, at);
                if (got == 0)
                    return hash.Finish();
                hash.Append(buffer.AsSpan(0, got));
                at += got;
            }
        }
        catch (NativeException failure)
        {
            _problems.Add($"'{node.Path}' cannot be read: {failure.Message}");
            return null;
        }
    }

    // Names whose bytes are not UTF-8 are no paths that the framework takes.
    private NewContent Fresh(SourceNode node)
    {
        var path = Path.Combine([Path.GetFullPath(_folder), .. node.Path.Parts]);
        var length = (node.HardLinkOf ?? node).Length;
        FilesRead++;
        if (!path.Any(char.IsSurrogate))
            return new NewContent(null, path, length);
        using var file = _source.Open(node);
        var bytes = new byte[length];
        return new NewContent(bytes[..file.Read(bytes, 0)], null, length);
    }

    private static bool IsBelow(TreeEditor.Node node, TreeEditor.Node folder)
    {
        for (var at = node.Parent; at is not null; at = at.Parent)
        {
            if (at == folder)
                return true;
        }
        return false;
    }

    private void Metadata(byte[] bytes)
    {
        foreach (var (node, path, what, change) in WorkspaceMetadata.Read(bytes, path => _editor.Find(WindowsPath.Parse(path)), _problems))
        {
            if (_removed.Exists(r => r.Base == node || IsBelow(node, r.Base)))
                continue;
            var displayName = path.Length > 0 ? path : "/";
            if (_changes.FindIndex(c => c.Kind != WorkspaceChangeKind.Added
                && (c.From.Length > 0 ? c.From : c.Path) == displayName) is >= 0 and var at)
                _changes[at] = _changes[at] with { What = [.. _changes[at].What, .. what] };
            else
                _changes.Add(new WorkspaceChange(WorkspaceChangeKind.Changed, displayName, "", what, 0));
            _steps.Add(() => TreeEditor.Set(node, change));
        }
    }
}
