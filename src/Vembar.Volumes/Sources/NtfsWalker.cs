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
        foreach (var part in await WorkStealingRunner.RunAsync<(SourceNode Node, string[] Path), SourceWalk>((root, []), options.Workers,
            walk.Fork, Step, cancellation).ConfigureAwait(false))
            walk.Join(part);
        var tree = walk.Finish(root);
        if (options.Earlier is { } earlier)
            await earlier.MatchVolumeAsync(root, options.Workers, cancellation).ConfigureAwait(false);
        return tree;
    }

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
            return;
        }
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

    public static VembarException Unreadable(string displayName, NativeException failure, string[] path) =>
        failure.Errno is not (Errno.AccessDenied or Errno.NotPermitted)
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
