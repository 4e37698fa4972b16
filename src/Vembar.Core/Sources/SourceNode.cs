using Vembar.Core.Compaction;
using Vembar.Core.Content;
using Vembar.Core.Trees;

namespace Vembar.Core.Sources;

/// <summary>A file or folder of a source, as a walk over it found it.</summary>
/// <remarks>There is one for every file, so most are kept without an entry of their own, which is made when it is asked for.</remarks>
public sealed class SourceNode
{
    // The whole entry, or owner and permissions when there is nothing else to it. Nodes next to each other share these.
    private object? _rest;
    // What is in a folder, or the first name of the same file.
    private object? _other;
    // A content, or the hash alone of one that is a single chunk of the node's length.
    private object? _content;
    private readonly long _modified;
    private readonly byte _modifiedRest;
    private readonly bool _hasModified;

    /// <summary>A node for what a walk found.</summary>
    /// <param name="parent">The folder it is in; null for the root.</param>
    /// <param name="entry">What is known of it.</param>
    /// <param name="like">A node before it, whose equal parts it shares; may be null.</param>
    public SourceNode(SourceNode? parent, TreeEntry entry, SourceNode? like = null)
    {
        Parent = parent;
        Name = entry.Name;
        Kind = entry.Kind;
        if (entry.Kind == EntryKind.Folder)
            _other = new List<SourceNode>();
        _hasModified = entry.Modified is not null;
        _modified = entry.Modified?.Ticks ?? 0;
        _modifiedRest = entry.Modified?.Rest ?? 0;
        if (!entry.IsPlain)
            _rest = entry;
        else if (entry.Owner is { } owner)
            _rest = like?._rest is PosixOwner same && same == owner ? like._rest : owner;
    }

    /// <summary>The name; empty for the root.</summary>
    public string Name { get; }

    /// <summary>File, folder or link.</summary>
    public EntryKind Kind { get; }

    /// <summary>When the content last changed.</summary>
    public FileTime? Modified => _hasModified ? new FileTime(_modified, _modifiedRest) : null;

    /// <summary>What the walk knows of it.</summary>
    public TreeEntry Entry
    {
        get => _rest as TreeEntry ?? new TreeEntry { Name = Name, Kind = Kind, Modified = Modified, Owner = (PosixOwner?)_rest };
        set => _rest = value;
    }

    /// <summary>A file's content, once it is known.</summary>
    public FileContent? Content
    {
        get => _content is ChunkId only ? new FileContent(Length, only) : _content as FileContent;
        set => _content = value is { IsOneChunk: true } && value.Length == Length ? value.Hash : value;
    }

    /// <summary>The folder it is in; null for the root.</summary>
    public SourceNode? Parent { get; }

    /// <summary>What is in it, when it is a folder.</summary>
    public List<SourceNode>? Children => _other as List<SourceNode>;

    /// <summary>The folder of an earlier image that this one was, when there is one.</summary>
    internal ChunkId? Earlier { get => (_content as EarlierFolder)?.Folder; set => _content = value is { } folder ? new EarlierFolder(folder, false) : null; }

    /// <summary>Whether all that is in the folder itself is as it was; then only its folders are among its children.</summary>
    internal bool IsAsItWas => _content is EarlierFolder { IsAsItWas: true };

    /// <summary>Notes that all that is in the folder itself is as it was.</summary>
    internal void MarkAsItWas() => _content = new EarlierFolder(Earlier!.Value, true);

    // A folder has no content, so this takes its place.
    private sealed record EarlierFolder(ChunkId Folder, bool IsAsItWas);

    /// <summary>Forgets what is in it.</summary>
    internal void ForgetChildren() => _other = null;

    /// <summary>The file's length when it was walked over, in bytes.</summary>
    public long Length { get; init; }

    /// <summary>When anything of the file last changed, as its file system says, in 100 ns since 1601; nobody can set it back.</summary>
    public long Changed { get; init; }

    /// <summary>What the volume or file system knows the file by.</summary>
    public ulong FileId { get; init; }

    /// <summary>The first found name of the same file, when this is a further one.</summary>
    public SourceNode? SameAs
    {
        get => _other as SourceNode;
        set => _other = value;
    }

    /// <summary>Whether it was not asked yet for attributes of Linux; opening it does so.</summary>
    internal bool LacksAttributes { get; init; }

    /// <summary>True when it went away while the source was read.</summary>
    public bool Vanished { get; set; }

    /// <summary>The path from the root.</summary>
    public WindowsPath Path
    {
        get
        {
            var root = this;
            while (root.Parent is not null)
                root = root.Parent;
            return WindowsPath.Below(root, this, static n => n.Parent, static n => n.Name);
        }
    }
}

/// <summary>A path that was left out, and why.</summary>
/// <param name="Path">The path from the source's root.</param>
/// <param name="Rule">The pattern that left it out, or the reason.</param>
public sealed record LeftOut(string Path, string Rule);

/// <summary>What a walk found.</summary>
/// <param name="Root">The root with everything below it.</param>
/// <param name="Files">Files and links, each name counted.</param>
/// <param name="Folders">Folders, the root included.</param>
/// <param name="Bytes">Bytes of all files; hard-linked content counts once.</param>
/// <param name="Allocated">Bytes of these that are no holes, as the source says.</param>
/// <param name="Latest">The latest change time of anything in it, in 100 ns since 1601.</param>
/// <param name="FilesRead">Files that were read to be compared with an earlier image and are as they were.</param>
/// <param name="BytesRead">Bytes of these.</param>
/// <param name="LeftOut">What was left out.</param>
/// <param name="Warnings">What should be known.</param>
public sealed record SourceTree(
    SourceNode Root, long Files, long Folders, long Bytes, long Allocated, long Latest, long FilesRead, long BytesRead, IReadOnlyList<LeftOut> LeftOut, IReadOnlyList<string> Warnings)
{
    /// <summary>Files that the volume keeps compacted.</summary>
    public CompactedCount Compacted { get; init; } = new(0, 0, 0);
}

/// <summary>An open file of a source.</summary>
public interface ISourceFile : IDisposable
{
    /// <summary>The length now, in bytes.</summary>
    long Length { get; }

    /// <summary>Reads from a place; fewer bytes than asked only at the end.</summary>
    int Read(Span<byte> to, long offset);

    /// <summary>The next stretch with data from an offset on; both numbers are the length when only a hole is left.</summary>
    (long Start, long End) NextData(long offset);

    /// <summary>Whether it was written to since it was opened.</summary>
    bool HasChanged();
}
