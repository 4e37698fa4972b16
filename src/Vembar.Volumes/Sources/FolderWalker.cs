using Microsoft.Win32.SafeHandles;
using Vembar.Common;
using Vembar.Common.Tasks;
using Vembar.Images.Nodes;
using Vembar.Native;

namespace Vembar.Volumes.Sources;

/// <summary>Walks over a folder of Linux, several folders of it at once.</summary>
/// <param name="root">The folder.</param>
/// <param name="displayName">What it is called, for messages.</param>
/// <param name="entries">Reads what is said of files.</param>
internal sealed class FolderWalker(SafeFileHandle root, string displayName, FolderEntryReader entries)
{
    /// <summary>Walks over everything.</summary>
    /// <exception cref="VembarException">Something cannot be read; all told together.</exception>
    public async Task<SourceTree> RunAsync(WalkOptions options, CancellationToken cancellation)
    {
        // Compared with an earlier image, a file may not be opened.
        var walk = new SourceWalk(options, cancellation)
        {
            AttributesLater = options.OpensAll && options.Earlier is null && !entries.IsWindows,
        };
        if (options.Avoid is not null && Posix.TryStat(null, PosixName.Encode(options.Avoid), out var own))
            walk.Avoid = (own.Device, own.Inode);
        var rootStat = Posix.Stat(root);
        var top = new SourceNode(null, entries.Describe(root, ".\0"u8, "", rootStat, null, walk)) { Earlier = options.Earlier?.Root };
        walk.Folders = 1;
        foreach (var part in await WorkStealingRunner.RunAsync<Work, SourceWalk>(new Work(top, []), options.Workers, walk.Fork, Fill,
            cancellation).ConfigureAwait(false))
            walk.Join(part);
        return walk.Finish(top);
    }

    private SafeFileHandle OpenFolder(SourceNode node) => WithParent(root, node, (folder, path) => Posix.OpenFolder(folder, path));

    /// <summary>Does something in the folder that a node is in, with its name there.</summary>
    public static T WithParent<T>(SafeFileHandle root, SourceNode node, Func<SafeFileHandle, byte[], T> work) =>
        PosixPath.WithParent(root, PosixPath.Of(node, static n => n.Parent, static n => n.Name), work);

    // A folder to look into; or files of one that are still to be read before it is said to be as it was.
    private readonly record struct Work(SourceNode Node, string[] Path, bool IsChanged = false, UnchangedFolder? Unchanged = null,
        Range Files = default);

    private void Fill(Work folder, SourceWalk walk, Action<Work> later)
    {
        SafeFileHandle? handle = null;
        try
        {
            if (folder.Unchanged is not null)
            {
                ReadBatch(folder, walk, later);
                return;
            }
            var names = walk.Names;
            if (walk.IsTooDeep(folder.Path, displayName))
                return;
            try
            {
                handle = OpenFolder(folder.Node);
                Posix.ReadFolder(handle, string.Join('/', folder.Path), names);
            }
            catch (NativeException failure)
            {
                walk.Unreadable(string.Join('/', folder.Path),
                    VembarException.From(failure, "read the folder", Path.Combine(displayName, string.Join('/', folder.Path)))!);
                return;
            }
            var mayLeaveOut = walk.Exclusions.MayLeaveOutBelow(folder.Path);
            if (!entries.IsWindows && !mayLeaveOut && !folder.IsChanged && UnchangedFolder.Compare(folder.Node, handle, walk) is { } alike
                && TakeOver(folder, alike, handle, walk, later))
            {
                walk.Tick();
                return;
            }
            var found = new (string Name, int Index)[names.Count];
            for (var i = 0; i < found.Length; i++)
                found[i] = (names.Text(i), i);
            Array.Sort(found, (a, b) => string.CompareOrdinal(a.Name, b.Name));
            string[] path = [.. folder.Path, ""];
            var folders = new List<SourceNode>();
            foreach (var (name, index) in found)
            {
                path[^1] = name;
                if (Visit(walk, folder.Node, handle, path, name, names.Raw(index), mayLeaveOut) is { } inner)
                    folders.Add(inner);
                walk.Tick();
            }
            if (folder.Node.Earlier is { } earlier)
                walk.Earlier!.Match(folder.Node, earlier, ofVolume: false);
            // Only now is all known of them.
            foreach (var inner in folders)
                later(new Work(inner, [.. folder.Path, inner.Name]));
        }
        finally
        {
            handle?.Dispose();
        }
    }

    // Notes that a folder is as it was, once its files are read. A little is read at once; more is shared out, for those who walk
    // beside this one may have nothing else to do. False when a file differs.
    private static bool TakeOver(Work folder, UnchangedFolder alike, SafeFileHandle handle, SourceWalk walk, Action<Work> later)
    {
        const long BatchBytes = 8 << 20;
        if (alike.ToRead.Count == 0 || alike.Bytes <= BatchBytes)
        {
            foreach (var (index, length, hash) in alike.ToRead)
            {
                if (!walk.Comparison.IsStill(handle, walk.Names.Raw(index), length, hash))
                    return false;
            }
            Settle(folder, alike, walk, later);
            return true;
        }
        alike.Names = walk.GiveNames();
        var batches = new List<Work>();
        var bytes = 0L;
        var start = 0;
        for (var i = 0; i < alike.ToRead.Count; i++)
        {
            bytes += alike.ToRead[i].Length;
            if (bytes < BatchBytes && i < alike.ToRead.Count - 1)
                continue;
            batches.Add(folder with { Unchanged = alike, Files = start..(i + 1) });
            start = i + 1;
            bytes = 0;
        }
        alike.Left = batches.Count;
        batches.ForEach(later);
        return true;
    }

    private void ReadBatch(Work batch, SourceWalk walk, Action<Work> later)
    {
        var alike = batch.Unchanged!;
        try
        {
            using var handle = OpenFolder(batch.Node);
            var (start, count) = batch.Files.GetOffsetAndLength(alike.ToRead.Count);
            for (var i = start; i < start + count && !alike.Differs; i++)
            {
                var (index, length, hash) = alike.ToRead[i];
                if (!walk.Comparison.IsStill(handle, alike.Names!.Raw(index), length, hash))
                    alike.Differs = true;
            }
        }
        catch (NativeException)
        {
            // Told when it is looked into once more.
            alike.Differs = true;
        }
        if (Interlocked.Decrement(ref alike.Left) > 0)
            return;
        if (alike.Differs)
            later(new Work(batch.Node, batch.Path, IsChanged: true));
        else
            Settle(batch, alike, walk, later);
        walk.Tick();
    }

    private static void Settle(Work folder, UnchangedFolder alike, SourceWalk walk, Action<Work> later)
    {
        folder.Node.MarkAsItWas();
        folder.Node.Children!.AddRange(alike.Folders);
        walk.Folders += alike.Folders.Count;
        walk.Files += alike.Files;
        walk.Bytes += alike.Bytes;
        walk.Allocated += alike.Allocated;
        walk.Latest = Math.Max(walk.Latest, alike.Latest);
        if (alike.ToRead.Count > 0)
            walk.Read = (walk.Read.Files + alike.ToRead.Count, walk.Read.Bytes + alike.ToRead.Sum(f => f.Length));
        foreach (var inner in alike.Folders)
            later(new Work(inner, [.. folder.Path, inner.Name]));
    }

    // What is found, when it is a folder to look into.
    private SourceNode? Visit(SourceWalk walk, SourceNode folder, SafeFileHandle handle, string[] path, string name,
        ReadOnlySpan<byte> raw, bool mayLeaveOut)
    {
        if (mayLeaveOut && walk.Exclusions.RuleFor(path) is { } rule)
        {
            walk.LeaveOut(path, rule);
            return null;
        }
        try
        {
            var stat = Posix.Stat(handle, raw);
            if (stat.Inode == walk.Avoid.Inode && stat.Device == walk.Avoid.Device && walk.Avoid != default)
            {
                walk.Excluded.Add(new ExcludedEntry(string.Join('/', path), "the archive being written"));
                return null;
            }
            if (stat.Kind != PosixKind.Folder && !walk.Exclusions.Takes(path))
                return null;
            if (stat.Kind is PosixKind.Special or PosixKind.Disk)
            {
                walk.Excluded.Add(new ExcludedEntry(string.Join('/', path), "a pipe, socket or device"));
                return null;
            }
            var target = stat.Kind == PosixKind.Link ? Posix.ReadLink(handle, raw) : null;
            // A file that is going to be opened is asked for attributes then, in a shorter call.
            var later = walk.AttributesLater && stat is { Kind: PosixKind.File, Size: > 0, LinkCount: 1 };
            var entry = entries.Describe(handle, raw, name, stat, target, walk, later);
            var isFolder = entry.Kind == EntryKind.Folder;
            var node = new SourceNode(folder, entry, folder.Children is { Count: > 0 } before ? before[^1] : null)
            {
                Changed = FileTime.From(stat.Changed).Ticks,
                FileId = stat.Inode,
                Length = entry.Kind == EntryKind.File ? stat.Kind == PosixKind.Link ? 0 : stat.Size : 0,
                LacksAttributes = later,
            };
            folder.Children!.Add(node);
            walk.Latest = Math.Max(walk.Latest, node.Changed);
            if (isFolder)
            {
                walk.Folders++;
                if (stat.Kind == PosixKind.Folder)
                    return ReparseTag.IsLink(entry.Reparse) ? null : node;
                // The mount shows it as something else, so nothing can be said of what is in it.
                if (!ReparseTag.IsLink(entry.Reparse))
                    walk.Unreadable(string.Join('/', path),
                        VembarException.Input("hidden-folder",
                        $"'{displayName}/{string.Join('/', path)}' is a reparse point that this mount does not look into; what is in it "
                        + $"cannot be read", "Capture the disk or its image instead of the mounted folder."));
                return null;
            }
            walk.Files++;
            walk.Allocated += Math.Min(node.Length, stat.Allocated);
            if (entry.Kind == EntryKind.File && stat.LinkCount > 1)
            {
                walk.AddLink((stat.Device, stat.Inode), node);
                return null;
            }
            walk.Bytes += node.Length;
        }
        catch (NativeException failure) when (failure.Errno == Errno.NotFound)
        {
            walk.Warnings.Add($"'{string.Join('/', path)}' went away while the folder was read; it is not in the image");
        }
        catch (NativeException failure)
        {
            walk.Unreadable(string.Join('/', path),
                VembarException.From(failure, "read", Path.Combine(displayName, string.Join('/', path)))!);
        }
        return null;
    }
}
