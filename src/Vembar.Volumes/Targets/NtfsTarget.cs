using Vembar.Common;
using Vembar.Images.Editing;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Native;
using Vembar.Store.Reading;
using Vembar.Volumes.Sources;

namespace Vembar.Volumes.Targets;

/// <summary>
/// Writes a tree onto an NTFS volume with everything that NTFS keeps. Folders come first, then files in the order in which
/// their content lies in the archive, then further names of files, and the folders' own times at the end.
/// </summary>
internal sealed class NtfsTarget
{
    private const int LongestName = 255;
    private static readonly System.Buffers.SearchValues<char> s_unopenable = System.Buffers.SearchValues.Create("\\:*?\"<>|");

    private readonly TargetVolume _place;
    private readonly TreeEditor _tree;
    private readonly ImageTree _image;
    private readonly ArchiveReader _archive;
    private readonly TargetOptions _options;
    private readonly ResumeState _resume;
    private readonly UnsupportedFeatures _unsupported = new();
    private readonly NtfsFileWriter _writer;
    // Of folders, and of files that have several names.
    private readonly Dictionary<TreeEditor.Node, ulong> _references = [];
    private DeployPlan _plan = null!;

    /// <param name="place">The volume.</param>
    /// <param name="tree">What to write.</param>
    /// <param name="image">The image that it is of.</param>
    /// <param name="archive">Where its content is.</param>
    /// <param name="options">How.</param>
    /// <exception cref="VembarException">The volume holds an unfinished deployment of another image.</exception>
    public NtfsTarget(TargetVolume place, TreeEditor tree, ImageTree image, ArchiveReader archive, TargetOptions options)
    {
        _place = place;
        _tree = tree;
        _image = image;
        _archive = archive;
        _options = options;
        _writer = new NtfsFileWriter(place, image, archive, options, _unsupported);
        _resume = new ResumeState(options.Key, options.Key is { } key && ReadJournal() is { } bytes
            ? DeployJournal.Parse(bytes, key, "the volume")
            : options is { GoesOn: true, Key: { } same } ? new DeployJournal { Key = same, Start = "" } : null);
    }

    private NtfsVolume Volume => _place.Volume;

    /// <summary>Whether an earlier run of this deployment was broken off here.</summary>
    public bool IsResuming => _resume.IsResuming;

    /// <summary>Files that an earlier run had written whole.</summary>
    public long Resumed => _resume.Resumed;

    /// <summary>What is left of a run that did not come to its end; empty for nothing.</summary>
    public string Left() => !_resume.HasBegun ? ""
        : $"{_plan.FilesAndLinks.Count(f => f.IsMade)} of {_plan.FilesAndLinks.Count()} files of the image, each of them whole";

    private byte[]? ReadJournal()
    {
        using var root = Volume.Open(NtfsVolume.Root, "/");
        if (root.Find(DeployJournal.FileName) is not { } found)
            return null;
        using var file = Volume.Open(found, DeployJournal.FileName);
        using var data = file.OpenData();
        var bytes = new byte[Math.Min(data.Length, DeployJournal.Longest)];
        return bytes[..data.Read(bytes, 0)];
    }

    private void WriteJournal()
    {
        _resume.HasBegun = _resume.Key is not null && IsResuming;
        if (_resume.Key is null || IsResuming)
            return;
        if (_options.KeepExisting)
            FindKept();
        var bytes = _resume.FirstJournal(start: "").Encode();
        using var root = Volume.Open(NtfsVolume.Root, "/");
        using var file = Volume.Create(root, DeployJournal.FileName, isFolder: false, 0, DeployJournal.FileName);
        _resume.HasBegun = true;
        using (var data = file.OpenData())
            data.Write(bytes, 0);
        file.Close(root);
    }

    // What is there before anything is written.
    private void FindKept()
    {
        var there = new Dictionary<TreeEditor.Node, ulong>();
        foreach (var item in _plan.Folders.Concat(_plan.FilesAndLinks))
        {
            if (item.Folder is not { } above)
                there[item.Node] = NtfsVolume.Root;
            else if (there.TryGetValue(above.Node, out var reference))
            {
                using var parent = Volume.Open(reference, item.Path.ToString());
                if (!parent.IsFolder || parent.Find(item.Entry.Name) is not { } found)
                    continue;
                there[item.Node] = found;
                _resume.KeptBefore.Add(item.Path.ToString());
            }
        }
    }

    private void Remove(ulong folder, string name, string displayName)
    {
        using var parent = Volume.Open(folder, displayName);
        if (parent.Find(name) is not { } found)
            return;
        using var file = Volume.Open(found, displayName);
        file.DeleteAndClose(parent, name);
    }

    /// <summary>Files that were written compacted.</summary>
    public CompactedCount Compacted => _writer.Compacted;

    public long Files { get; private set; }

    public long Bytes { get; private set; }

    /// <summary>Existing files that were left as they are.</summary>
    public IEnumerable<string> Kept => _plan.Kept;

    /// <summary>What could not be kept, each with how many entries it concerns.</summary>
    public IReadOnlyDictionary<string, long> Lost => _unsupported.Counts;

    /// <summary>Plans what to write.</summary>
    /// <exception cref="VembarException">Names cannot be written here, or there is no room; all told together.</exception>
    public async Task PlanAsync(CancellationToken cancellation)
    {
        var problems = new List<VembarException>();
        _plan = await DeployPlan.MakeAsync(_tree, _options.Workers, node => Takes(node, problems), cancellation).ConfigureAwait(false);
        const int Record = 1024, Resident = 600;
        var cluster = Volume.ClusterSize;
        long Allocated(long length) => length <= Resident ? 0 : (length + cluster - 1) / cluster * cluster;
        long Needed(PlannedEntry file) =>
            Allocated(_image.DataLength(file.Entry.Content, file.Entry.Length, () => file.Path))
            + file.Entry.Streams.Sum(s => Allocated(s.Content.Length)) + Record;
        var needed = _plan.Files.Sum(Needed) + _plan.Folders.Count * (Record + (long)cluster);
        var free = Volume.FreeBytes();
        if (needed > free && !_options.KeepExisting && !IsResuming && !_options.SkipRoomCheck)
            problems.Add(VembarException.Environment("no-room", $"the image needs about {needed >> 20} MiB on the volume, which has "
                + $"{free >> 20} MiB free", Advice.Of("no-room-on-volume")));
        if (problems.Count > 0)
            throw VembarException.Aggregate(problems);
    }

    private bool Takes(TreeEditor.Node node, List<VembarException> problems)
    {
        var entry = node.Entry;
        if (entry.Name.Length > LongestName)
        {
            problems.Add(VembarException.Input("name-not-possible",
                $"'{node.Path}' has a name longer than the {LongestName} characters that NTFS takes", "Rename it in the image."));
            return false;
        }
        // Windows opens none of these, but NTFS keeps them; a subsystem of it may have made them.
        if (entry.Name.AsSpan().ContainsAny(s_unopenable) || entry.Name.Any(char.IsControl) || entry.Name[^1] is ' ' or '.')
            _unsupported.Record("names that Windows programs can open");
        if (entry.Kind == EntryKind.Link)
        {
            _unsupported.Record("symbolic links of Linux");
            return false;
        }
        if (entry.Kind == EntryKind.File && entry.Owner is not null)
            _unsupported.Record("owners and permissions of Linux");
        return true;
    }

    /// <summary>Writes everything; the caller closes the volume.</summary>
    /// <exception cref="VembarException">It cannot be written.</exception>
    public async Task WriteAsync(Action<long, long, string> report, CancellationToken cancellation)
    {
        var current = WindowsPath.Root;
        try
        {
            // Whoever finds the volume after a power cut is to have it checked.
            Volume.MarkDirty(true);
            WriteJournal();
            foreach (var folder in _plan.Folders)
            {
                cancellation.ThrowIfCancellationRequested();
                current = folder.Path;
                MakeFolder(folder);
            }
            var total = _plan.Files.Sum(f => f.Entry.Length);
            var done = 0L;
            var ordered = _plan.Files.Select(f => (Item: f, Place: _archive.OrderOf(f.Entry.Content))).OrderBy(f => f.Place)
                .Select(f => f.Item).ToList();
            if (IsResuming)
                done += PassOverWhole(ordered, cancellation);
            using var fetching = ContentFetch.Ahead(_archive, _image, ordered);
            var ahead = new ReadAhead(_archive, ordered.Select(f => f.Entry.Content));
            await using (ahead.ConfigureAwait(false))
            {
                foreach (var file in ordered)
                {
                    cancellation.ThrowIfCancellationRequested();
                    current = file.Path;
                    ahead.Reached(file.Entry.Content);
                    WriteOrRollback(file);
                    done += file.Entry.Length;
                    _place.Settle();
                    report(done, total, current.ToString());
                }
            }
            foreach (var link in _plan.Links)
            {
                cancellation.ThrowIfCancellationRequested();
                current = link.Path;
                WriteLink(link);
            }
            _options.BeforeEnd?.Invoke();
            // The deepest first: writing into a folder changes its times.
            for (var i = _plan.Folders.Count - 1; i >= 0; i--)
            {
                cancellation.ThrowIfCancellationRequested();
                current = _plan.Folders[i].Path;
                if (i == 0 && _resume.HasBegun)
                    Remove(NtfsVolume.Root, DeployJournal.FileName, DeployJournal.FileName);
                Finish(_plan.Folders[i]);
            }
            _resume.HasBegun = false;
            Volume.MarkDirty(false);
        }
        catch (Exception failure) when (failure is OperationCanceledException or VembarException)
        {
            Volume.MarkDirty(false);
            throw;
        }
        catch (NativeException failure)
        {
            // Full, or where something else failed than the device, it is still in order; a device that fails leaves nothing to rely on.
            if (failure.Errno == Errno.NoSpace || !Volume.HasDeviceFailed)
                Volume.MarkDirty(false);
            throw failure.Errno == Errno.NoSpace
                ? VembarException.Environment("no-room", $"the volume is full at '{current}'", "Make the disk or the partition larger.")
                : VembarException.From(failure, "write", current.ToString())!;
        }
    }

    // What is there already is not fetched again.
    private long PassOverWhole(List<PlannedEntry> files, CancellationToken cancellation)
    {
        var bytes = 0L;
        files.RemoveAll(item =>
        {
            cancellation.ThrowIfCancellationRequested();
            if (item.Folder is not { } above || !MayBeThere(above) || !_resume.IsOwn(item))
                return false;
            var displayName = item.Path.ToString();
            using var parent = Volume.Open(_references[above.Node], displayName);
            if (parent.Find(item.Entry.Name) is not { } found || !IsWhole(item.Entry, found, displayName))
                return false;
            TakeAsWritten(item, found);
            bytes += item.Entry.Length;
            return true;
        });
        return bytes;
    }

    private void TakeAsWritten(PlannedEntry item, ulong reference)
    {
        item.Mark(made: true);
        NoteReference(item, reference);
        _resume.CountResumed();
        Count(item.Entry.Length);
    }

    private void WriteOrRollback(PlannedEntry file)
    {
        try
        {
            WriteFile(file);
        }
        catch (Exception failure) when (failure is VembarException or NativeException or OperationCanceledException)
        {
            if (file.IsMade)
                Rollback(file);
            throw;
        }
    }

    // Whether something may be in a folder already.
    private bool MayBeThere(PlannedEntry folder) => IsResuming || (_options.KeepExisting && !folder.IsMade);

    private void NoteReference(PlannedEntry item, ulong reference)
    {
        if (item.Entry.LinkGroup != 0)
            _references[item.Node] = reference;
    }

    private void Count(long bytes)
    {
        Files++;
        Bytes += bytes;
    }

    private const ulong NumberMask = 0xFFFFFFFFFFFF;

    private void MakeFolder(PlannedEntry folder)
    {
        if (folder.Folder is not { } above)
        {
            _references[folder.Node] = NtfsVolume.Root;
            folder.Mark(made: !_options.KeepExisting);
            return;
        }
        var displayName = folder.Path.ToString();
        using var parent = Volume.Open(_references[above.Node], displayName);
        if (MayBeThere(above) && parent.Find(folder.Entry.Name) is { } found)
        {
            using var there = Volume.Open(found, displayName);
            if (!there.IsFolder)
                throw VembarException.Input("target-exists", $"the volume has a file '{folder.Path}' where the image has a folder",
                    "Remove it, or deploy to an empty volume.");
            _references[folder.Node] = there.Number;
            // What an earlier run of this one made is made.
            folder.Mark(made: _resume.IsOwn(folder));
            return;
        }
        var made = _writer.Create(parent, folder, isFolder: true);
        try
        {
            _references[folder.Node] = made.Number;
            folder.Mark(made: true);
            // It must be made so while it is empty.
            if (folder.Entry.Reparse is { } reparse)
                made.SetReparse(reparse);
            made.Close(parent);
        }
        finally
        {
            made.Dispose();
        }
    }

    private void WriteFile(PlannedEntry item)
    {
        var displayName = item.Path.ToString();
        var entry = item.Entry;
        var above = item.Folder!.Value;
        var parent = Volume.Open(_references[above.Node], displayName);
        NtfsFile? file = null;
        try
        {
            if (MayBeThere(above) && parent.Find(entry.Name) is { } found)
            {
                var isOwn = _resume.IsOwn(item);
                if (!isOwn || IsWhole(entry, found, displayName))
                {
                    if (isOwn)
                        TakeAsWritten(item, found);
                    else
                    {
                        item.Mark(made: false);
                        NoteReference(item, found);
                    }
                    return;
                }
                parent.Dispose();
                Remove(_references[above.Node], entry.Name, displayName);
                parent = Volume.Open(_references[above.Node], displayName);
            }
            file = _writer.Create(parent, item, isFolder: false);
            NoteReference(item, file.Number);
            item.Mark(made: true);
            _writer.Fill(item, _references[above.Node], ref parent, ref file);
            file.Close(parent);
            Count(entry.Length);
        }
        finally
        {
            file?.Dispose();
            parent.Dispose();
        }
    }

    // Its times are the last thing that a file is given.
    private bool IsWhole(TreeEntry entry, ulong reference, string displayName)
    {
        using var file = Volume.Open(reference, displayName);
        var there = file.Describe();
        return !there.IsFolder && there.Length == entry.Length && entry.New is null && entry.Modified is { } modified
            && there.Modified == modified.Ticks
            && (entry.Created is not { } created || there.Created == created.Ticks)
            && (entry.Changed is not { } changed || there.Changed == changed.Ticks);
    }

    // What is on the volume of the image is whole: a file that could not be finished is taken away again.
    private void Rollback(PlannedEntry item)
    {
        try
        {
            item.Unmark();
            Remove(_references[item.Folder!.Value.Node], item.Entry.Name, item.Path.ToString());
        }
        catch (NativeException)
        {
            // The next run finds that it is not whole.
        }
    }

    private void WriteLink(PlannedEntry link)
    {
        var displayName = link.Path.ToString();
        var above = link.Folder!.Value;
        var first = _plan.FirstNameOf(link)!.Value;
        using var parent = Volume.Open(_references[above.Node], displayName);
        if (MayBeThere(above) && parent.Find(link.Entry.Name) is { } found)
        {
            link.Mark(made: _resume.IsOwn(link));
            // The same file under its other name; or one that could not be finished.
            if (link.IsKept || (found & NumberMask) == (_references[first.Node] & NumberMask))
            {
                Files += link.IsMade ? 1 : 0;
                return;
            }
            parent.Dispose();
            Remove(_references[above.Node], link.Entry.Name, displayName);
            link.Unmark();
            WriteLink(link);
            return;
        }
        // A kept file in the place of the first name is another file: then this name gets a copy of its own.
        if (first.IsKept)
        {
            parent.Dispose();
            WriteFile(link);
            return;
        }
        using var file = Volume.Open(_references[first.Node], displayName);
        file.Link(parent, link.Entry.Name);
        // Its names are in several folders now, and the library opens each of them by itself.
        parent.Close();
        _writer.SetTimes(file, first.Entry);
        file.Close();
        link.Mark(made: true);
        Files++;
    }

    private void Finish(PlannedEntry item)
    {
        if (!item.IsMade)
            return;
        var displayName = item.Path.ToString();
        var entry = item.Entry;
        var file = Volume.Open(_references[item.Node], displayName);
        NtfsFile? parent = null;
        try
        {
            if (item.Folder is { } above)
                parent = Volume.Open(_references[above.Node], displayName);
            else if (!entry.Security.IsNone)
                file.SetSecurity(_archive.Read(entry.Security).Span);
            if (entry.Attributes is { } attributes)
                file.SetAttributes((uint)attributes);
            _writer.ApplyMetadata(item, file);
            if (parent is not null)
                _writer.SetShortName(item, _references[item.Folder!.Value.Node], ref parent, ref file);
            _writer.SetTimes(file, entry);
            file.Close(parent);
        }
        finally
        {
            file.Dispose();
            parent?.Dispose();
        }
    }

    /// <summary>Compares what is on the volume with what was to be written.</summary>
    /// <param name="source">The volume, opened anew for reading.</param>
    /// <param name="report">Told how far it is.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <returns>What differs, a line each.</returns>
    public Task<IReadOnlyList<string>> VerifyAsync(NtfsSource source, Action<long, long, string> report, CancellationToken cancellation) =>
        new NtfsReadBack(_plan, _image, source).CompareAsync(_options.Workers, report, cancellation);
}
