using System.IO.Hashing;
using Vembar.Common;
using Vembar.Common.Formats;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Records;

namespace Vembar.Volumes.Sources;

/// <summary>What a walk over a source has found so far.</summary>
internal sealed class SourceWalk(WalkOptions options, CancellationToken cancellation)
{
    private const int Ticking = 256;

    // Files seen by all who walk, told in steps of about Ticking.
    private readonly long[] _all = [0];
    private long _told;

    private SourceWalk(SourceWalk whole, WalkOptions options, CancellationToken cancellation) : this(options, cancellation)
    {
        _all = whole._all;
        Avoid = whole.Avoid;
    }

    public CancellationToken Cancellation => cancellation;

    public Exclusions Exclusions => options.Exclusions;
    public (ulong Device, ulong Inode) Avoid { get; set; }

    /// <summary>The names of each file that may have several.</summary>
    public Dictionary<(ulong, ulong), List<SourceNode>> Links { get; } = [];

    /// <summary>An earlier image to compare with.</summary>
    public EarlierImage? Earlier => options.Earlier;

    /// <summary>Whether files are asked for attributes of Linux only when they are opened.</summary>
    public bool AttributesLater { get; init; }

    /// <summary>Room for the names in the folder at hand.</summary>
    public Native.PosixNames Names { get; private set; } = new();

    /// <summary>Lets go of the names in the folder at hand.</summary>
    public Native.PosixNames GiveNames()
    {
        var names = Names;
        Names = new Native.PosixNames();
        return names;
    }

    public List<ExcludedEntry> Excluded { get; } = [];

    /// <summary>Notes what a rule leaves out.</summary>
    public void LeaveOut(string[] path, string rule)
    {
        if (rule != Exclusions.NotAsked)
            Excluded.Add(new ExcludedEntry(string.Join('/', path), rule));
    }

    /// <summary>Paths of what was found without its folder listing it.</summary>
    public List<string> Unlisted { get; } = [];

    public List<string> Warnings { get; } = [];
    public List<VembarException> Problems { get; } = [];
    public long Files { get; set; }
    public long Folders { get; set; }
    public long Bytes { get; set; }

    /// <summary>Bytes of what is no hole.</summary>
    public long Allocated { get; set; }

    /// <summary>The latest change time, in 100 ns since 1601.</summary>
    public long Latest { get; set; }

    /// <summary>Files, and bytes of these, that were read to be compared and are as they were.</summary>
    public (long Files, long Bytes) Read { get; set; }

    /// <summary>Reads files to compare them with an earlier image.</summary>
    public FileComparison Comparison => field ??= new FileComparison(cancellation);

    /// <summary>A walk over a part, by another thread.</summary>
    public SourceWalk Fork() => new(this, options, cancellation)
    {
        AttributesLater = AttributesLater,
    };

    /// <summary>Files that the volume keeps compacted, and bytes of their plain and compacted contents.</summary>
    public CompactedCount Compacted { get; set; } = new(0, 0, 0);

    // Files whose content cannot be read, by the reason: how many, and the first by its path.
    private readonly SortedDictionary<string, (long Count, string First)> _kept = new(StringComparer.Ordinal);

    /// <summary>A file whose content is kept in a way that cannot be read here: it is left out, or the walk fails at its end with one line
    /// for all.</summary>
    /// <param name="path">The file.</param>
    /// <param name="reason">Why, said of several files ("keep their content in another file").</param>
    public void KeptElsewhere(string path, string reason)
    {
        if (options.SkipUnreadable)
            Excluded.Add(new ExcludedEntry(path, $"unreadable: of the files that {reason}"));
        else
            Note(reason, 1, path);
    }

    private void Note(string reason, long count, string path)
    {
        var (before, first) = _kept.GetValueOrDefault(reason, (0, path));
        _kept[reason] = (before + count, string.CompareOrdinal(path, first) < 0 ? path : first);
    }

    /// <summary>Adds what a walk over a part found.</summary>
    public void Join(SourceWalk other)
    {
        Compacted = Compacted.Plus(other.Compacted);
        foreach (var (reason, (count, first)) in other._kept)
            Note(reason, count, first);
        Files += other.Files;
        Folders += other.Folders;
        Bytes += other.Bytes;
        Allocated += other.Allocated;
        Latest = Math.Max(Latest, other.Latest);
        Read = (Read.Files + other.Read.Files, Read.Bytes + other.Read.Bytes);
        Excluded.AddRange(other.Excluded);
        Warnings.AddRange(other.Warnings);
        Unlisted.AddRange(other.Unlisted);
        Problems.AddRange(other.Problems);
        foreach (var (file, names) in other.Links)
        {
            ref var group = ref System.Runtime.InteropServices.CollectionsMarshal.GetValueRefOrAddDefault(Links, file, out _);
            (group ??= []).AddRange(names);
        }
    }

    /// <summary>Tells now and then how far it is.</summary>
    public void Tick()
    {
        var more = Files + Folders - _told;
        if (more < Ticking)
            return;
        _told += more;
        cancellation.ThrowIfCancellationRequested();
        options.Seen?.Invoke(Interlocked.Add(ref _all[0], more));
    }

    /// <summary>Something cannot be read: it is left out, or the walk fails at its end.</summary>
    public void Unreadable(string path, VembarException problem)
    {
        if (VembarException.ServerGone(problem) is { } gone)
            throw gone;
        if (options.SkipUnreadable)
            Excluded.Add(new ExcludedEntry(path, $"unreadable: {problem.Message}"));
        else
            Problems.Add(problem);
    }

    /// <summary>Whether a folder is deeper than a tree can hold; then it is told.</summary>
    public bool IsTooDeep(string[] path, string displayName)
    {
        if (path.Length < TreeLimits.MaxDepth)
            return false;
        Unreadable(string.Join('/', path), VembarException.Input(
            "too-deep", $"{displayName}: '{string.Join('/', path[..3])}/…' leads more than {TreeLimits.MaxDepth} folders down",
            Advice.Of("too-deep")));
        return true;
    }

    /// <summary>Takes back what was counted of a node that does not stay.</summary>
    public void Forget(SourceNode node)
    {
        if (node.Children is not null)
            Folders--;
        else
        {
            Files--;
            if (Links.Values.FirstOrDefault(g => g.Remove(node)) is null)
                Bytes -= node.Length;
        }
        foreach (var (file, _) in Links.Where(g => g.Value.Count == 0).ToList())
            Links.Remove(file);
    }

    /// <summary>Keeps a name of a file that has several.</summary>
    public void AddLink((ulong, ulong) file, SourceNode node)
    {
        ref var group = ref System.Runtime.InteropServices.CollectionsMarshal.GetValueRefOrAddDefault(Links, file, out _);
        (group ??= []).Add(node);
    }

    /// <summary>Ends the walk: hard links get their numbers.</summary>
    /// <exception cref="VembarException">There were problems; all told together.</exception>
    public SourceTree Finish(SourceNode root)
    {
        foreach (var (reason, (count, first)) in _kept)
        {
            var which = count == 1 ? "a file" : $"{count} files";
            Problems.Add(VembarException.Input("overlaid-file", $"{which} "
                + $"{reason}{(count == 1 ? ":" : ", such as")} '{first}'",
                Advice.Of("overlaid-file")));
        }
        if (Problems.Count > 0)
            throw VembarException.Aggregate([.. Problems.OrderBy(p => p.Message, StringComparer.Ordinal)]);
        foreach (var group in Links.Values)
        {
            Bytes += group[0].Length;
            if (group.Count == 1)
                continue;
            // Named by the group's first path, so that the number stays when other files come and go.
            var byPath = group.Select(n => (Node: n, Path: n.Path.ToString())).OrderBy(n => n.Path, StringComparer.Ordinal).ToList();
            var number = XxHash3.HashToUInt64(Wtf8.Encode(byPath[0].Path)) | 1;
            foreach (var (node, _) in byPath)
            {
                node.Entry = node.Entry with { LinkGroup = number };
                node.HardLinkOf = node == byPath[0].Node ? null : byPath[0].Node;
            }
        }
        // Who found what is left to chance; what is told is not.
        var warnings = Warnings.Order(StringComparer.Ordinal).ToList();
        if (Unlisted.Count > 0)
            warnings.Add($"{Unlisted.Count} {(Unlisted.Count == 1 ? "file or folder was" : "files and folders were")} not in the lists of "
                + $"the folders that they are in, such as '{Unlisted.Min(StringComparer.Ordinal)}'; the volume is damaged");
        foreach (var rule in Exclusions.Unused)
        {
            var deeper = rule.Contains('/') || rule.Contains('\\') ? "" : $"; '**/{rule}' matches at every depth";
            warnings.Add($"the pattern '{rule}' left nothing out{deeper}");
        }
        return new SourceTree(root, Files, Folders, Bytes, Allocated, Latest, Read.Files, Read.Bytes,
            [.. Excluded.OrderBy(l => l.Path, StringComparer.Ordinal)], warnings)
        {
            Compacted = Compacted,
            Unlisted = [.. Unlisted.Order(StringComparer.Ordinal)],
        };
    }
}
