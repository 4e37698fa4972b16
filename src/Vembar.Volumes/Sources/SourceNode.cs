using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Store.Hashing;

namespace Vembar.Volumes.Sources;

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
    internal ChunkId? Earlier
    {
        get => (_content as EarlierFolder)?.Folder; set =>
        _content = value is { } folder ? new EarlierFolder(folder, false) : null;
    }

    /// <summary>Whether all that is in the folder itself is as it was; then only its folders are among its children.</summary>
    internal bool IsUnchanged => _content is EarlierFolder { IsUnchanged: true };

    /// <summary>Notes that all that is in the folder itself is as it was.</summary>
    internal void MarkAsItWas() => _content = new EarlierFolder(Earlier!.Value, true);

    // A folder has no content, so this takes its place.
    private sealed record EarlierFolder(ChunkId Folder, bool IsUnchanged);

    /// <summary>Forgets what is in it.</summary>
    internal void ForgetChildren() => _other = null;

    /// <summary>The file's length when it was walked over, in bytes.</summary>
    public long Length { get; init; }

    /// <summary>When anything of the file last changed, as its file system says, in 100 ns since 1601; nobody can set it back.</summary>
    public long Changed { get; init; }

    /// <summary>What the volume or file system knows the file by.</summary>
    public ulong FileId { get; init; }

    /// <summary>The first found name of the same file, when this is a further one.</summary>
    public SourceNode? HardLinkOf
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
