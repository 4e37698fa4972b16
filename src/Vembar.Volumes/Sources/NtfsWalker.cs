using System.Collections.Concurrent;
using Vembar.Common;
using Vembar.Common.Tasks;
using Vembar.Images.Nodes;
using Vembar.Images.Records;
using Vembar.Native;
using Vembar.Volumes.Compaction;

namespace Vembar.Volumes.Sources;

/// <summary>Walks over an NTFS volume, several folders of it at once.</summary>
/// <param name="displayName">What the volume is called, for messages.</param>
/// <param name="volumes">The volume.</param>
internal sealed class NtfsWalker(string displayName, NtfsVolumePool volumes)
{
    // Streams up to here are read while the file is open anyway; longer ones when they are stored.
    private const int ShortStream = 64 << 10;

    /// <summary>Walks over everything.</summary>
    /// <exception cref="VembarException">Something cannot be read; all told together.</exception>
    public async Task<SourceTree> RunAsync(WalkOptions options, CancellationToken cancellation)
    {
        var walk = new SourceWalk(options, cancellation);
        var visited = new ConcurrentDictionary<ulong, byte>();
        var volume = volumes.Rent();
        SourceNode root;
        try
        {
            using (var file = volume.Open(NtfsVolume.Root, "/"))
                root = new SourceNode(null, Describe(walk, file, file.Describe(), "", NtfsVolume.Root, []));
            walk.Folders = 1;
            visited[NtfsVolume.Root] = 0;
        }
        catch (NativeException failure)
        {
            throw VembarException.From(failure, "read", displayName)!;
        }
        finally
        {
            volumes.Return(volume);
        }
        _table = NtfsFileTable.TryOpen(volumes);
        await WalkAsync(walk, (root, []), visited, options.Workers, cancellation).ConfigureAwait(false);
        // Without the comparison nobody could say that nothing is missing.
        if (_table is null)
            walk.Unreadable("$MFT", VembarException.Input("unreadable", $"{displayName}: the file table cannot be read, so files may be "
                + "missing from its folders' lists", Advice.Of("unreadable")));
        await FindLostAsync(walk, visited, options, cancellation).ConfigureAwait(false);
        var tree = walk.Finish(root);
        if (options.Earlier is { } earlier)
            await earlier.MatchVolumeAsync(root, options.Workers, cancellation).ConfigureAwait(false);
        return tree;
    }

    private async Task WalkAsync(SourceWalk walk, (SourceNode Node, string[] Path) from, ConcurrentDictionary<ulong, byte> visited,
        int workers,
        CancellationToken cancellation)
    {
        void Step((SourceNode Node, string[] Path) folder, SourceWalk part, Action<(SourceNode Node, string[] Path)> later)
        {
            var own = volumes.Rent();
            try
            {
                Fill(part, own, folder, visited, later);
            }
            finally
            {
                volumes.Return(own);
            }
        }
        foreach (var part in await WorkStealingRunner.RunAsync<(SourceNode Node, string[] Path), SourceWalk>(from, workers, walk.Fork, Step,
            cancellation).ConfigureAwait(false))
            walk.Join(part);
    }

    // What is in use and no folder lists was lost with a part of an index. Where its folder is known, it is taken under its path; what is
    // in a folder that is found so is found by walking on.
    private async Task FindLostAsync(SourceWalk walk, ConcurrentDictionary<ulong, byte> visited, WalkOptions options,
        CancellationToken cancellation)
    {
        var told = new HashSet<ulong>();
        while (Lost(walk, cancellation)?.Where(l => !told.Contains(l.Reference)).ToList() is { Count: > 0 } lost)
        {
            if (!options.SkipUnreadable)
            {
                walk.Problems.Add(LostFiles(lost));
                return;
            }
            foreach (var file in lost)
            {
                told.Add(file.Reference);
                if (file.Folder is not { } folder)
                {
                    walk.Excluded.Add(new ExcludedEntry(ShownPath(file), "unreadable: no folder lists it"));
                    continue;
                }
                if (Restore(walk, folder, file) is { Kind: EntryKind.Folder } found && !ReparseTag.IsLink(found.Entry.Reparse)
                    && visited.TryAdd(file.Reference & NumberMask, 0))
                    await WalkAsync(walk, (found, PathOf(found)), visited, options.Workers, cancellation).ConfigureAwait(false);
            }
        }
    }

    private List<LostFile>? Lost(SourceWalk walk, CancellationToken cancellation)
    {
        try
        {
            return _table?.FindLost(cancellation);
        }
        catch (NativeException failure)
        {
            walk.Unreadable("$MFT", VembarException.Input("unreadable", $"{displayName}: the file table cannot be read: {failure.Message}",
                Advice.Of("unreadable")));
            return null;
        }
    }

    private SourceNode? Restore(SourceWalk walk, SourceNode folder, LostFile file)
    {
        string[] path = [.. PathOf(folder), file.Name];
        var before = folder.Children!.Count;
        var volume = volumes.Rent();
        try
        {
            Visit(walk, volume, folder, path, file.Name, file.Reference);
        }
        finally
        {
            volumes.Return(volume);
        }
        if (folder.Children.Count == before)
            return null;
        var found = folder.Children[^1];
        folder.Children.Sort((a, b) => string.CompareOrdinal(a.Name, b.Name));
        walk.Unlisted.Add(string.Join('/', path));
        return found;
    }

    private static string[] PathOf(SourceNode node) => node.Parent is null ? [] : [.. PathOf(node.Parent), node.Name];

    private static string ShownPath(LostFile file) => file.Folder is { } folder ? string.Join('/', [.. PathOf(folder), file.Name])
        : $"file record {file.Reference & NumberMask}{(file.Name.Length > 0 ? $" ({file.Name})" : "")}";

    private VembarException LostFiles(List<LostFile> lost)
    {
        const int Most = 20;
        return VembarException.Input("lost-files",
            $"{displayName}: {lost.Count} {(lost.Count == 1 ? "file or folder is" : "files and folders are")}"
            + $" in use, and in no folder's list, such as '{ShownPath(lost[0])}'; the volume is damaged",
            Advice.Of("lost-files"), [.. lost.Take(Most).Select(ShownPath)]);
    }

    private NtfsFileTable? _table;

    private void Fill(SourceWalk walk, NtfsVolume volume, (SourceNode Node, string[] Path) folder,
        ConcurrentDictionary<ulong, byte> visited, Action<(SourceNode Node, string[] Path)> later)
    {
        List<NtfsName> names;
        if (walk.IsTooDeep(folder.Path, displayName))
            return;
        try
        {
            using var file = volume.Open(folder.Node.Parent is null ? NtfsVolume.Root : folder.Node.FileId, string.Join('/', folder.Path));
            names = file.Names();
        }
        catch (NativeException failure)
        {
            walk.Unreadable(string.Join('/', folder.Path), Unreadable(displayName, failure, folder.Path));
            // What is in it is found by its records.
            _table?.Listed(folder.Node.Parent is null ? NtfsVolume.Root : folder.Node.FileId, folder.Node);
            return;
        }
        foreach (var (_, child) in names)
            _table?.List(child);
        _table?.Listed(folder.Node.Parent is null ? NtfsVolume.Root : folder.Node.FileId, folder.Node);
        // In the order of their records on the disk; by name afterwards.
        names.Sort((a, b) => (a.Reference & NumberMask).CompareTo(b.Reference & NumberMask));
        string[] path = [.. folder.Path, ""];
        foreach (var (name, child) in names)
        {
            // NTFS' own files, and the root's name for itself.
            if ((child & NumberMask) < NtfsVolume.FirstUserFile)
                continue;
            path[^1] = name;
            if (TreeLimits.NameProblem(name) is { } wrong)
                walk.Unreadable(string.Join('/', path), VembarException.Input("damaged-folder",
                    $"{displayName}: '{string.Join('/', path)}' cannot be the name of a file: {wrong}",
                    Advice.Of("damaged-folder")));
            else
                Visit(walk, volume, folder.Node, path, name, child);
            walk.Tick();
        }
        folder.Node.Children!.Sort((a, b) => string.CompareOrdinal(a.Name, b.Name));
        LeaveOutTwins(walk, folder);
        foreach (var node in folder.Node.Children.Where(c => c.Kind == EntryKind.Folder && !ReparseTag.IsLink(c.Entry.Reparse)))
        {
            path[^1] = node.Name;
            if (visited.TryAdd(node.FileId & NumberMask, 0))
                later((node, [.. path]));
            else
                walk.Problems.Add(VembarException.Input("folder-circle", $"{displayName}: the folder '{string.Join('/', path)}' is "
                    + $"found a second time; the volume is damaged", "Let Windows check it (chkdsk)."));
        }
    }

    private const ulong NumberMask = 0xFFFFFFFFFFFF;

    // A damaged index may list a name twice; nobody could tell which one is meant.
    private void LeaveOutTwins(SourceWalk walk, (SourceNode Node, string[] Path) folder)
    {
        var children = folder.Node.Children!;
        for (var i = children.Count - 1; i > 0; i--)
        {
            var first = i;
            while (first > 0 && children[first - 1].Name == children[i].Name)
                first--;
            if (first == i)
                continue;
            var path = string.Join('/', [.. folder.Path, children[i].Name]);
            walk.Unreadable(path, VembarException.Input("damaged-folder", $"{displayName}: '{path}' is in its folder twice",
                Advice.Of("damaged-folder")));
            for (; i >= first; i--)
            {
                walk.Forget(children[i]);
                children.RemoveAt(i);
            }
            i++;
        }
    }

    private void Visit(SourceWalk walk, NtfsVolume volume, SourceNode folder, string[] path, string name, ulong reference)
    {
        if (walk.Exclusions.RuleFor(path) is { } rule)
        {
            walk.LeaveOut(path, rule);
            return;
        }
        try
        {
            using var file = volume.Open(reference, string.Join('/', path));
            var description = file.Describe();
            var parent = (folder.Parent is null ? NtfsVolume.Root : folder.FileId) & NumberMask;
            if (!HasName(description, parent, name))
            {
                walk.Unreadable(string.Join('/', path), VembarException.Input("damaged-folder",
                    $"{displayName}: '{string.Join('/', path)}' "
                    + $"leads to the record of another file ('{description.Names.FirstOrDefault(n => n.IsLong).Name}')",
                    Advice.Of("damaged-folder")));
                return;
            }
            if (!description.IsFolder && !walk.Exclusions.Takes(path))
                return;
            if (!description.IsFolder && ReparseTag.KeepsContentElsewhere(description.Reparse))
            {
                walk.KeptElsewhere(string.Join('/', path), ReparseTag.Elsewhere);
                return;
            }
            var entry = Describe(walk, file, description, name, folder.Parent is null ? NtfsVolume.Root : folder.FileId, path);
            var node = new SourceNode(folder, entry) { Length = entry.Kind == EntryKind.File ? description.Length : 0, FileId = reference };
            folder.Children!.Add(node);
            if (entry.Kind == EntryKind.Folder)
            {
                walk.Folders++;
                return;
            }
            walk.Files++;
            if (entry.Compaction == CompactedForm.None)
                walk.Allocated += Math.Min(node.Length, file.AllocatedLength);
            else
            {
                walk.Allocated += node.Length;
                // A file of several names counts once.
                var first = description.Names.FirstOrDefault(n => n.IsLong);
                if (first.Name == name && first.Parent == ((folder.Parent is null ? NtfsVolume.Root : folder.FileId) & NumberMask))
                {
                    walk.Compacted =
                        walk.Compacted.Plus(new CompactedCount(1, node.Length,
                        description.Streams.FirstOrDefault(s => s.Name == CompactedForms.Stream).Length));
                }
            }
            if (description.Names.Count(n => n.IsLong) > 1)
                walk.AddLink((0, reference & NumberMask), node);
            else
                walk.Bytes += node.Length;
        }
        catch (NativeException failure)
        {
            walk.Unreadable(string.Join('/', path), Unreadable(displayName, failure, path));
        }
    }

    // What a folder lists has that name in its own record. Which letters are one with others only the volume knows.
    private static bool HasName(NtfsDescription description, ulong parent, string name)
    {
        foreach (var own in description.Names)
        {
            if (own.IsLong && own.Parent == parent && own.Name.Equals(name, StringComparison.OrdinalIgnoreCase))
                return true;
        }
        return false;
    }

    public static VembarException Unreadable(string displayName, NativeException failure, string[] path) =>
        failure.Errno is not (Errno.AccessDenied or Errno.NotPermitted) && VembarException.ServerGone(failure) is null
        ? VembarException.Input("unreadable", $"{displayName}: '{string.Join('/', path)}' cannot be read: {failure.Message}",
        Advice.Of("unreadable"))
        : VembarException.From(failure, "read", $"{displayName}/{string.Join('/', path)}")!;

    private TreeEntry Describe(SourceWalk walk, NtfsFile file, NtfsDescription description, string name, ulong parent, string[] path)
    {
        var attributes = (WindowsAttributes)description.Attributes;
        var form = description.IsFolder ? CompactedForm.None : CompactedForms.Of(description.Reparse);
        const WindowsAttributes IsNotHere = (WindowsAttributes)(0x40000 | 0x400000);
        if (!description.IsFolder && (attributes & IsNotHere) != 0)
            walk.Problems.Add(VembarException.Input("placeholder-file", $"{displayName}: '{string.Join('/', path)}' is a placeholder: "
                + $"its content is on a server, not on the volume",
                Advice.Of("placeholder-file")));
        if (attributes.HasFlag(WindowsAttributes.Encrypted))
            walk.Problems.Add(VembarException.Input("encrypted-file", $"{displayName}: '{string.Join('/', path)}' is encrypted by the "
                + $"file system", Advice.Of("encrypted-file")));
        List<PendingStream>? streams = null;
        foreach (var (stream, length) in description.Streams)
        {
            if (form != CompactedForm.None && stream == CompactedForms.Stream)
                continue;
            if (length > ShortStream)
            {
                var number = file.Number;
                (streams ??= []).Add(new PendingStream(stream, null, () => volumes.OpenStream(number, stream, string.Join('/', path))));
                continue;
            }
            using var data = file.OpenData(stream);
            var bytes = new byte[data.Length];
            (streams ??= []).Add(new PendingStream(stream, bytes[..data.Read(bytes, 0)]));
        }
        return new TreeEntry
        {
            Name = name,
            Kind = description.IsFolder ? EntryKind.Folder : EntryKind.File,
            // A compacted file is a plain one of that content.
            Attributes = form == CompactedForm.None ? attributes : attributes & ~(WindowsAttributes.Reparse | WindowsAttributes.Sparse),
            Created = new FileTime(description.Created),
            Modified = new FileTime(description.Modified),
            Accessed = new FileTime(description.Accessed),
            Changed = new FileTime(description.Changed),
            Reparse = form == CompactedForm.None ? description.Reparse : null,
            Compaction = form,
            ShortName = name.Length == 0 ? null
            : description.Names.FirstOrDefault(n => n.IsShort && n.Parent == (parent & NumberMask)).Name,
            ObjectId = description.ObjectId,
            ExtendedAttributes = ExtendedAttributeList.Parse(description.ExtendedAttributes),
            PendingStreams = streams ?? [],
            PendingSecurity = description.Security,
        };
    }
}
