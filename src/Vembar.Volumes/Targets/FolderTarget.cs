using System.Runtime.InteropServices;
using Microsoft.Win32.SafeHandles;
using Vembar.Common;
using Vembar.Common.Files;
using Vembar.Common.Tasks;
using Vembar.Images.Contents;
using Vembar.Images.Editing;
using Vembar.Images.Nodes;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Native;
using Vembar.Store.Reading;
using Vembar.Volumes.Sources;

namespace Vembar.Volumes.Targets;

/// <summary>
/// Writes a tree into a folder of Linux. Folders come first, then files in the order in which their content lies in the
/// archive (each block is expanded once), then links, and times and permissions of folders at the end. When it does not come to its end,
/// what is left is whole files and a journal, by which the next run of the same deployment goes on.
/// </summary>
internal sealed class FolderTarget : IDisposable
{
    private readonly TreeEditor _tree;
    private readonly ImageTree _image;
    private readonly ArchiveReader _archive;
    private readonly SafeFileHandle _root;
    private readonly TargetOptions _options;
    private readonly ResumeState _resume;
    private readonly UnsupportedFeatures _unsupported = new();
    private readonly FolderMetadata _metadata;
    private DeployPlan _plan = null!;

    /// <param name="path">The folder.</param>
    /// <param name="tree">What to write.</param>
    /// <param name="image">The image that it is of.</param>
    /// <param name="archive">Where its content is.</param>
    /// <param name="options">How.</param>
    /// <exception cref="VembarException">The folder holds an unfinished deployment of another image.</exception>
    public FolderTarget(string path, TreeEditor tree, ImageTree image, ArchiveReader archive, TargetOptions options)
    {
        _tree = tree;
        _image = image;
        _archive = archive;
        _options = options;
        _metadata = new FolderMetadata(_unsupported);
        _root = Posix.OpenFolder(null, PosixName.Encode(path), followLink: true);
        try
        {
            if (!TryLock())
                throw VembarException.Environment("target-in-use", $"another deployment writes into '{path}'", "Wait until it has ended.");
            var journal = Path.Combine(path, DeployJournal.FileName);
            _resume = new ResumeState(options.Key, options.Key is { } key && File.Exists(journal)
                ? DeployJournal.Parse(InputFile.ReadAllBytes(journal), key, $"'{path}'") : null);
        }
        catch
        {
            _root.Dispose();
            throw;
        }
    }

    /// <summary>Whether an earlier run of this deployment was broken off here.</summary>
    public bool IsResuming => _resume.IsResuming;

    /// <summary>Files that an earlier run had written whole.</summary>
    public long Resumed => _resume.Resumed;

    /// <summary>What is left of a run that did not come to its end; empty for nothing.</summary>
    public string Left(string target) => !_resume.HasBegun ? ""
        : $"{_plan.FilesAndLinks.Count(f => f.IsMade)} of {_plan.FilesAndLinks.Count()} files are in '{target}', each of them whole";

    public long Files { get; private set; }

    public long Bytes { get; private set; }

    /// <summary>Existing files that were left as they are.</summary>
    public IEnumerable<string> Kept => _plan.Kept;

    /// <summary>What this file system could not keep, each with how many entries it concerns.</summary>
    public IReadOnlyDictionary<string, long> Lost => _unsupported.Counts;

    /// <summary>Plans what to write.</summary>
    /// <exception cref="VembarException">Names cannot be written here; all told together.</exception>
    public async Task PlanAsync(CancellationToken cancellation)
    {
        const int LongestName = 256;
        var problems = new List<VembarException>();
        bool Takes(TreeEditor.Node node)
        {
            if (PosixName.Length(node.Entry.Name) is > 0 and <= LongestName)
                return true;
            problems.Add(VembarException.Input("name-not-possible", $"'{node.Path}' has a name that Linux cannot write",
                "Deploy to a Windows volume, or rename it in the image."));
            return false;
        }
        _plan = await DeployPlan.MakeAsync(_tree, _options.Workers, Takes, cancellation).ConfigureAwait(false);
        if (problems.Count > 0)
            throw VembarException.Aggregate(problems);
    }

    /// <summary>Writes all of it.</summary>
    /// <param name="report">Told bytes done, all bytes, and the file.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <exception cref="VembarException">Something is in the way.</exception>
    public async Task WriteAsync(Action<long, long, string> report, CancellationToken cancellation)
    {
        cancellation.ThrowIfCancellationRequested();
        var levels = Levels();
        if (_resume.Key is not null && !IsResuming && _options.KeepExisting)
            _resume.KeptBefore = [.. _plan.Folders.Skip(1).Concat(_plan.FilesAndLinks).Where(IsThere).Select(i => i.Path.ToString())];
        // From here on the folder holds an unfinished deployment.
        WriteJournal();
        try
        {
            foreach (var level in levels.Skip(1))
                await OnAllCoresAsync(level, MakeFolder, cancellation).ConfigureAwait(false);
            await WriteFilesAsync(report, cancellation).ConfigureAwait(false);
            foreach (var link in _plan.Links)
            {
                cancellation.ThrowIfCancellationRequested();
                WriteLink(link);
            }
            // The deepest first: without root's rights, what is in a folder may not be reached any more once it has its own.
            foreach (var level in levels.AsEnumerable().Reverse())
            {
                await OnAllCoresAsync(level, folder =>
                {
                    if (folder.IsMade && folder.Node.Parent is not null)
                        Finish(folder);
                }, cancellation).ConfigureAwait(false);
            }
            _options.BeforeEnd?.Invoke();
            if (_resume.HasBegun)
                Posix.Remove(_root, PosixName.Encode(DeployJournal.FileName), false);
            _resume.HasBegun = false;
            if (!_options.KeepExisting)
                Finish(_plan.Folders[0]);
        }
        catch
        {
            Undo();
            throw;
        }
    }

    private void MakeFolder(PlannedEntry folder) => WithParent(Raw(folder), (parent, name) =>
    {
        // What an earlier run of this one made is made.
        var isNew = Posix.MakeFolder(parent, name, 0x1C0);
        folder.Mark(isNew || _resume.IsOwn(folder));
        if (!isNew)
            Posix.OpenFolder(parent, name).Dispose();
    });

    private bool IsThere(PlannedEntry item)
    {
        try
        {
            return WithParent(Raw(item), (parent, name) => Posix.TryStat(parent, name, out _));
        }
        catch (NativeException)
        {
            // A folder above it is not there.
            return false;
        }
    }

    private bool TryLock()
    {
        try
        {
            return Posix.TryLock(_root);
        }
        catch (NativeException)
        {
            // Some file systems have no locks; then nobody holds one.
            return true;
        }
    }

    private void WriteJournal()
    {
        if (_resume.Key is null)
            return;
        if (!IsResuming)
        {
            var beside = PosixName.Encode(DeployJournal.UnfinishedName);
            // One that was being written when a run was killed.
            if (Posix.TryStat(_root, beside, out _))
                Posix.Remove(_root, beside, false);
            using (var file = Posix.CreateNew(_root, beside, 0x180))
            {
                Posix.Write(file, _resume.FirstJournal(DeployJournal.PresentStart()).Encode(), 0);
                // A power cut that leaves files leaves what tells whose they are.
                Posix.Sync(file);
            }
            Posix.Rename(_root, beside, PosixName.Encode(DeployJournal.FileName));
        }
        // A resumed one keeps its journal as it is: what was there before the first run, and the start under which the oldest files were
        // written.
        _resume.HasBegun = true;
    }

    // Where not a file was written there is nothing to go on with; where nobody will go on, nothing is left.
    private void Undo()
    {
        if (_resume.Key is null)
        {
            foreach (var item in _plan.FilesAndLinks.Where(i => i.IsMade))
                TryRemove(item, folder: false);
        }
        else if (_resume.IsResuming || _plan.FilesAndLinks.Any(f => f.IsMade))
            return;
        for (var i = _plan.Folders.Count - 1; i > 0; i--)
        {
            if (_plan.Folders[i].IsMade)
                TryRemove(_plan.Folders[i], folder: true);
        }
        if (!_resume.HasBegun)
            return;
        try
        {
            Posix.Remove(_root, PosixName.Encode(DeployJournal.FileName), false);
            _resume.HasBegun = false;
        }
        catch (NativeException)
        {
            // Then it is told.
        }
    }

    private void TryRemove(PlannedEntry item, bool folder)
    {
        try
        {
            WithParent(Raw(item), (parent, name) => Posix.Remove(parent, name, folder));
        }
        catch (NativeException)
        {
            // Nothing more can be done.
        }
    }

    // The folders by their depth, the root first.
    private List<List<PlannedEntry>> Levels()
    {
        var levels = new List<List<PlannedEntry>>();
        foreach (var folder in _plan.Folders)
        {
            var depth = 0;
            for (var at = folder.Node; at.Parent is not null; at = at.Parent)
                depth++;
            while (levels.Count <= depth)
                levels.Add([]);
            levels[depth].Add(folder);
        }
        return levels;
    }

    private Task OnAllCoresAsync(List<PlannedEntry> items, Action<PlannedEntry> work, CancellationToken cancellation) =>
        WorkStealingRunner.EachAsync(items.Count, _options.Workers, i => work(items[i]), cancellation);

    private async Task WriteFilesAsync(Action<long, long, string> report, CancellationToken cancellation)
    {
        var total = _plan.Files.Sum(f => f.Entry.Length);
        var places = new long[_plan.Files.Count];
        await WorkStealingRunner.EachAsync(places.Length, _options.Workers,
            i => places[i] = _archive.OrderOf(_plan.Files[i].Entry.Content), cancellation).ConfigureAwait(false);
        places.AsSpan().Sort(CollectionsMarshal.AsSpan(_plan.Files));
        // Each run lies in one block, and goes to one thread.
        const int LongestRun = 512;
        var runs = new List<(int Start, int End)>();
        for (var i = 0; i < places.Length; i++)
        {
            if (i == 0 || places[i] != places[i - 1] || i - runs[^1].Start >= LongestRun)
                runs.Add((i, i));
            runs[^1] = (runs[^1].Start, i + 1);
        }
        // Those that take long begin first: at the end, all others would wait for one.
        const long Long = 16 << 20;
        long BytesOf((int Start, int End) run)
        {
            var bytes = 0L;
            for (var i = run.Start; i < run.End; i++)
                bytes += _plan.Files[i].Entry.Length;
            return bytes;
        }
        // Of an archive that is far away, blocks come in the order in which they lie, and none twice.
        if (!_archive.IsRemote)
            runs = [.. runs.OrderByDescending(r => BytesOf(r) is > Long and var bytes ? bytes : 0)];
        using var fetching = ContentFetch.Ahead(_archive, _image, runs.SelectMany(r => _plan.Files.Skip(r.Start).Take(r.End - r.Start)));
        var done = 0L;
        var next = -1;
        await WorkStealingRunner.EachAsync(runs.Count, _options.Workers, share =>
        {
            // What is fetched comes in order.
            var run = fetching is null ? share : Interlocked.Increment(ref next);
            for (var i = runs[run].Start; i < runs[run].End; i++)
            {
                var item = _plan.Files[i];
                cancellation.ThrowIfCancellationRequested();
                WriteFile(item);
                report(Interlocked.Add(ref done, item.Entry.Length), total, item.Entry.Name);
            }
        }, cancellation).ConfigureAwait(false);
        Files = _plan.Files.Count(f => f.IsMade);
        Bytes = _plan.Files.Where(f => f.IsMade).Sum(f => f.Entry.Length);
    }

    private void WriteFile(PlannedEntry item)
    {
        WithParent(Raw(item), (parent, name) =>
        {
            SafeFileHandle file;
            try
            {
                file = Posix.CreateNew(parent, name, 0x180);
            }
            catch (NativeException failure) when (failure.Errno == Errno.Exists && (_options.KeepExisting || _resume.IsResuming))
            {
                var isOwn = _resume.IsOwn(item);
                if (!isOwn || IsWhole(item, parent, name))
                {
                    item.Mark(made: isOwn);
                    if (isOwn)
                        _resume.CountResumed();
                    return;
                }
                Posix.Remove(parent, name, false);
                file = Posix.CreateNew(parent, name, 0x180);
            }
            try
            {
                Fill(item, parent, name, file);
            }
            catch
            {
                // What is there is whole, or it is not there.
                TryRemove(item, folder: false);
                throw;
            }
            item.Mark(made: true);
        });
    }

    // Its time is the last thing that a file is given. After the machine was started anew, what was told to be written may be lost.
    private bool IsWhole(PlannedEntry item, SafeFileHandle parent, byte[] name)
    {
        var entry = item.Entry;
        if (!Posix.TryStat(parent, name, out var stat) || stat.Kind != PosixKind.File || stat.Size != entry.Length
            || entry.Modified is not { } time || stat.Modified != time.ToPosix())
            return false;
        return (_resume.IsSameStart && entry.New is null) || Difference(item, parent, name) is null;
    }

    private void Fill(PlannedEntry item, SafeFileHandle parent, byte[] name, SafeFileHandle file)
    {
        using (file)
        {
            var entry = item.Entry;
            if (entry.New is { } fresh)
                Posix.Write(file, fresh.ToBytes(), 0);
            else
            {
                var end = 0L;
                _image.Pieces(entry.Content!, () => item.Path, (bytes, at) =>
                {
                    Posix.Write(file, bytes, at);
                    end = at + bytes.Length;
                });
                if (end < entry.Length)
                    Posix.SetLength(file, entry.Length);
            }
            _metadata.Apply(item.Entry, parent, name, file);
            if (entry.Modified is { } time)
                Posix.SetTime(file, time.ToPosix());
        }
    }

    private void WriteLink(PlannedEntry link) => WithParent(Raw(link), (parent, name) =>
    {
        if ((_options.KeepExisting || _resume.IsResuming) && Posix.TryStat(parent, name, out _))
        {
            if (!_resume.IsOwn(link))
            {
                link.Mark(made: false);
                return;
            }
            Posix.Remove(parent, name, false);
        }
        if (_plan.FirstNameOf(link) is { } first)
        {
            // A kept file in the place of the first name is another file: then this name gets a copy of its own.
            var errno = first.IsMade
                ? WithParent(Raw(first), (firstParent, firstName) => Posix.TryHardLink(firstParent, firstName, parent, name))
                : Errno.CrossDevice;
            if (errno is Errno.TooManyLinks or Errno.CrossDevice or Errno.NotPermitted)
                WriteFile(link);
            else if (errno != 0)
                throw new NativeException("make the hard link", link.Path.ToString(), errno);
            link.Mark(made: true);
            Files++;
            return;
        }
        Posix.MakeLink(parent, name, PosixName.Encode(link.Entry.LinkTarget!));
        link.Mark(made: true);
        Files++;
        if (link.Entry.Owner is { } owner && FolderMetadata.IsRoot)
            Posix.TrySetOwner(parent, name, owner.Uid, owner.Gid);
        _metadata.SetAttributes(link.Entry, parent, name);
        if (link.Entry.Modified is { } time)
            Posix.SetTime(parent, name, time.ToPosix());
    });

    private void Finish(PlannedEntry folder) => WithParent(Raw(folder), (parent, name) =>
    {
        using var handle = Posix.OpenFolder(parent, name);
        _metadata.Apply(folder.Entry, parent, name, handle);
        if (folder.Entry.Modified is { } time)
            Posix.SetTime(handle, time.ToPosix());
    });

    // The path from the target's root as Linux takes it, with a NUL at the end.
    private static byte[] Raw(PlannedEntry item) => PosixPath.Of(item.Node, static n => n.Parent, static n => n.Entry.Name);

    private void WithParent(byte[] raw, Action<SafeFileHandle, byte[]> work) => WithParent(raw, (parent, name) =>
    {
        work(parent, name);
        return 0;
    });

    private T WithParent<T>(byte[] raw, Func<SafeFileHandle, byte[], T> work) => PosixPath.BelowParent(_root, raw, work);

    /// <summary>Reads back what was written and compares.</summary>
    /// <returns>What differs, a line each.</returns>
    public Task<IReadOnlyList<string>> VerifyAsync(Action<long, long, string> report, CancellationToken cancellation) =>
        ReadBack.CompareAsync([.. _plan.FilesAndLinks.Where(f => f.IsMade)], _options.Workers,
            item => WithParent(Raw(item), (parent, name) => Difference(item, parent, name)),
            (done, total, item) => report(done, total, item.Entry.Name), cancellation);

    private string? Difference(PlannedEntry item, SafeFileHandle parent, byte[] name)
    {
        var entry = item.Entry;
        if (!Posix.TryStat(parent, name, out var stat))
            return "is not there";
        if (entry.Kind == EntryKind.Link)
            return stat.Kind == PosixKind.Link && Posix.ReadLink(parent, name) == entry.LinkTarget ? null : "is not the same link";
        if (stat.Kind != PosixKind.File || stat.Size != entry.Length)
            return $"has {stat.Size} bytes, not {entry.Length}";
        if (entry.Modified is { } time && stat.Modified != time.ToPosix())
            return "has another time";
        using var handle = Posix.OpenRead(parent, name);
        using var file = new PosixSourceFile(handle);
        return ContentComparison.Matches(file, entry.New is null ? _image.Parts(entry.Content!, item.Path) : NewContentParts.Of(entry.New))
            ? null : "has other content";
    }

    /// <summary>How many bytes of content there are to be written; holes are not.</summary>
    public long BytesToWrite => _plan.Files.Sum(f => _image.DataLength(f.Entry.Content, f.Entry.Length, () => f.Path));

    public void Dispose()
    {
        Posix.Unlock(_root);
        _root.Dispose();
    }
}
