using Vembar.Core.Compaction;
using Vembar.Core.Content;

namespace Vembar.Core.Trees;

/// <summary>What an entry of a folder is.</summary>
public enum EntryKind : byte
{
    /// <summary>A file.</summary>
    File = 1,
    /// <summary>A folder.</summary>
    Folder = 2,
    /// <summary>A symbolic link of Linux. (Windows' own links are files or folders with reparse data.)</summary>
    Link = 3,
}

/// <summary>A piece of a file's content: a chunk, or a hole that reads as zeros.</summary>
/// <param name="Id">The chunk; none for a hole.</param>
/// <param name="Length">Its length in bytes.</param>
public readonly record struct ContentPart(ChunkId Id, long Length)
{
    /// <summary>True for a hole.</summary>
    public bool IsHole => Id.IsNone;
}

/// <summary>What a file or stream holds. Kept small: there is one for every file of an image.</summary>
public sealed class FileContent
{
    // Nothing for a single chunk, the parts, or the id of the chunk that lists them.
    private readonly object? _form;

    /// <summary>Content of one chunk, or of parts.</summary>
    /// <param name="length">Bytes.</param>
    /// <param name="hash">BLAKE3 of all of it.</param>
    /// <param name="parts">The pieces in order.</param>
    public FileContent(long length, ChunkId hash, IReadOnlyList<ContentPart> parts)
    {
        Length = length;
        Hash = hash;
        _form = parts is [{ IsHole: false } only] && only.Id == hash && only.Length == length ? null : parts;
    }

    /// <summary>Content of a single chunk.</summary>
    internal FileContent(long length, ChunkId hash)
    {
        Length = length;
        Hash = hash;
    }

    /// <summary>Content whose pieces are listed in a chunk of their own.</summary>
    public FileContent(long length, ChunkId hash, ChunkId list)
    {
        Length = length;
        Hash = hash;
        _form = list;
    }

    /// <summary>Whether it is a single chunk, whose id is then the hash.</summary>
    internal bool IsOneChunk => _form is null;

    /// <summary>Bytes.</summary>
    public long Length { get; }

    /// <summary>BLAKE3 of all of it, as b3sum prints.</summary>
    public ChunkId Hash { get; }

    /// <summary>The pieces in order; null when they are in a list of their own.</summary>
    public IReadOnlyList<ContentPart>? Parts => _form switch
    {
        null => [new ContentPart(Hash, Length)],
        ChunkId => null,
        _ => (IReadOnlyList<ContentPart>)_form,
    };

    /// <summary>The chunk that holds the list of pieces; none when they are given here.</summary>
    public ChunkId List => _form is ChunkId list ? list : default;

    /// <summary>No bytes at all.</summary>
    public static FileContent Empty { get; } = new(0, Blake3.Hash([]), []);
}

/// <summary>A stream that is yet to be stored: its bytes, or where they are read from.</summary>
internal sealed record PendingStream(string Name, byte[]? Bytes, Func<Sources.ISourceFile>? Open = null);

/// <summary>A named stream beside a file's main content.</summary>
public sealed record NamedStream(string Name, FileContent Content);

/// <summary>A named value that a file system keeps with a file.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Value">Its bytes.</param>
/// <param name="Flags">NTFS: 0x80 when a program that does not know it must not open the file.</param>
public sealed record NamedValue(string Name, byte[] Value, byte Flags = 0);

/// <summary>Owner and permissions on Linux.</summary>
/// <param name="Mode">The twelve permission bits.</param>
/// <param name="Uid">The owner's number.</param>
/// <param name="Gid">The group's number.</param>
public readonly record struct PosixOwner(uint Mode, uint Uid, uint Gid);

/// <summary>Windows' file attributes (MS-FSCC 2.6).</summary>
[Flags]
public enum WindowsAttributes : uint
{
    /// <summary>None.</summary>
    None = 0,
    /// <summary>Not to be changed.</summary>
    ReadOnly = 0x1,
    /// <summary>Not shown.</summary>
    Hidden = 0x2,
    /// <summary>Of the system.</summary>
    System = 0x4,
    /// <summary>A folder.</summary>
    Directory = 0x10,
    /// <summary>Changed since the last backup.</summary>
    Archive = 0x20,
    /// <summary>Without other attributes.</summary>
    Normal = 0x80,
    /// <summary>Temporary.</summary>
    Temporary = 0x100,
    /// <summary>With holes.</summary>
    Sparse = 0x200,
    /// <summary>With reparse data.</summary>
    Reparse = 0x400,
    /// <summary>Compressed by the file system.</summary>
    Compressed = 0x800,
    /// <summary>Not at hand.</summary>
    Offline = 0x1000,
    /// <summary>Not indexed for searches.</summary>
    NotIndexed = 0x2000,
    /// <summary>Encrypted by the file system.</summary>
    Encrypted = 0x4000,
}

/// <summary>An entry of a folder with everything that is kept of it. A value: editing makes a new one.</summary>
/// <remarks>There is one for every file of an image, so what few entries have is kept apart, in an object that most lack.</remarks>
public sealed record TreeEntry
{
    private Rare? _rare;
    private OfWindows? _windows;
    private object? _owner;
    private long _modified;
    private byte _modifiedRest;
    private bool _hasModified;

    private sealed record Rare
    {
        public static readonly Rare None = new();
        public NewContent? New { get; init; }
        public ChunkId Folder { get; init; }
        public string? LinkTarget { get; init; }
        public byte[]? Reparse { get; init; }
        public string? ShortName { get; init; }
        public byte[]? ObjectId { get; init; }
        public IReadOnlyList<NamedValue> ExtendedAttributes { get; init; } = [];
        public IReadOnlyList<NamedStream> Streams { get; init; } = [];
        public IReadOnlyList<PendingStream> PendingStreams { get; init; } = [];
        public IReadOnlyList<NamedValue> PosixAttributes { get; init; } = [];
        public bool CaseSensitive { get; init; }
        public CompactedForm Compaction { get; init; }
    }

    // What every entry of a Windows volume has, and none of a Linux folder. These times have no rest below 100 ns.
    private sealed record OfWindows
    {
        public static readonly OfWindows None = new();
        public WindowsAttributes? Attributes { get; init; }
        public long Created { get; init; } = long.MinValue;
        public long Changed { get; init; } = long.MinValue;
        public long Accessed { get; init; } = long.MinValue;
        public ChunkId Security { get; init; }
        public byte[]? PendingSecurity { get; init; }

        public static FileTime? Time(long ticks) => ticks == long.MinValue ? null : new FileTime(ticks);
    }

    private Rare Known => _rare ?? Rare.None;

    private OfWindows Windows => _windows ?? OfWindows.None;

    /// <summary>True when it has none of what few entries have: streams, extended attributes, links, reparse points.</summary>
    internal bool IsCommon => _rare is null;

    /// <summary>True when there is nothing of it but name, kind, time and owner.</summary>
    internal bool IsPlain => _rare is null && _windows is null && Content is null && LinkGroup == 0;

    /// <summary>The name; empty for the root.</summary>
    public required string Name { get; init; }

    /// <summary>File, folder or link.</summary>
    public required EntryKind Kind { get; init; }

    /// <summary>Windows' attributes; null when the source has none.</summary>
    public WindowsAttributes? Attributes
    {
        get => Windows.Attributes;
        init
        {
            if (value is not null || _windows is not null)
                _windows = Windows with { Attributes = value };
        }
    }

    /// <summary>When the content last changed.</summary>
    public FileTime? Modified
    {
        get => _hasModified ? new FileTime(_modified, _modifiedRest) : null;
        init
        {
            _hasModified = value is not null;
            _modified = value?.Ticks ?? 0;
            _modifiedRest = value?.Rest ?? 0;
        }
    }

    /// <summary>When it was made.</summary>
    public FileTime? Created
    {
        get => OfWindows.Time(Windows.Created);
        init
        {
            if (value is not null || _windows is not null)
                _windows = Windows with { Created = value?.Ticks ?? long.MinValue };
        }
    }

    /// <summary>When anything of it last changed.</summary>
    public FileTime? Changed
    {
        get => OfWindows.Time(Windows.Changed);
        init
        {
            if (value is not null || _windows is not null)
                _windows = Windows with { Changed = value?.Ticks ?? long.MinValue };
        }
    }

    /// <summary>When it was last read.</summary>
    public FileTime? Accessed
    {
        get => OfWindows.Time(Windows.Accessed);
        init
        {
            if (value is not null || _windows is not null)
                _windows = Windows with { Accessed = value?.Ticks ?? long.MinValue };
        }
    }

    /// <summary>A file's content; null for others and while <see cref="New"/> is set.</summary>
    public FileContent? Content { get; init; }

    /// <summary>Content that is yet to be stored.</summary>
    public NewContent? New
    {
        get => Known.New;
        init
        {
            if (value is not null || _rare is not null)
                _rare = Known with { New = value };
        }
    }

    /// <summary>A folder's node.</summary>
    public ChunkId Folder
    {
        get => Known.Folder;
        init
        {
            if (!value.IsNone || _rare is not null)
                _rare = Known with { Folder = value };
        }
    }

    /// <summary>Where a link points.</summary>
    public string? LinkTarget
    {
        get => Known.LinkTarget;
        init
        {
            if (value is not null || _rare is not null)
                _rare = Known with { LinkTarget = value };
        }
    }

    /// <summary>The security descriptor (self-relative) as a chunk; none when the source has none.</summary>
    public ChunkId Security
    {
        get => Windows.Security;
        init
        {
            if (!value.IsNone || _windows is not null)
                _windows = Windows with { Security = value };
        }
    }

    /// <summary>The security descriptor's bytes while they are yet to be stored.</summary>
    internal byte[]? PendingSecurity
    {
        get => Windows.PendingSecurity;
        init
        {
            if (value is not null || _windows is not null)
                _windows = Windows with { PendingSecurity = value };
        }
    }

    /// <summary>Reparse tag and data as NTFS keeps them.</summary>
    public byte[]? Reparse
    {
        get => Known.Reparse;
        init
        {
            if (value is not null || _rare is not null)
                _rare = Known with { Reparse = value };
        }
    }

    /// <summary>The 8.3 name.</summary>
    public string? ShortName
    {
        get => Known.ShortName;
        init
        {
            if (value is not null || _rare is not null)
                _rare = Known with { ShortName = value };
        }
    }

    /// <summary>Not 0: all entries of the image with this number are names of one file.</summary>
    public ulong LinkGroup { get; init; }

    /// <summary>NTFS object id (16 to 64 bytes).</summary>
    public byte[]? ObjectId
    {
        get => Known.ObjectId;
        init
        {
            if (value is not null || _rare is not null)
                _rare = Known with { ObjectId = value };
        }
    }

    /// <summary>NTFS extended attributes.</summary>
    public IReadOnlyList<NamedValue> ExtendedAttributes
    {
        get => Known.ExtendedAttributes;
        init
        {
            if (value.Count > 0 || _rare is not null)
                _rare = Known with { ExtendedAttributes = value };
        }
    }

    /// <summary>Named streams.</summary>
    public IReadOnlyList<NamedStream> Streams
    {
        get => Known.Streams;
        init
        {
            if (value.Count > 0 || _rare is not null)
                _rare = Known with { Streams = value };
        }
    }

    /// <summary>Streams that are yet to be stored.</summary>
    internal IReadOnlyList<PendingStream> PendingStreams
    {
        get => Known.PendingStreams;
        init
        {
            if (value.Count > 0 || _rare is not null)
                _rare = Known with { PendingStreams = value };
        }
    }

    /// <summary>The names of its streams, whether they are stored or not.</summary>
    public IEnumerable<string> StreamNames => Streams.Select(s => s.Name).Concat(PendingStreams.Select(s => s.Name)).Order(StringComparer.Ordinal);

    /// <summary>Whether two entries of sources have the same security descriptor.</summary>
    public bool SameSecurityAs(TreeEntry other) => Security == other.Security && (PendingSecurity ?? []).AsSpan().SequenceEqual(other.PendingSecurity);

    /// <summary>Owner and permissions on Linux; null when the source is NTFS.</summary>
    public PosixOwner? Owner
    {
        get => (PosixOwner?)_owner;
        init => _owner = value;
    }

    /// <summary>The same as an object, which entries next to each other share: most have the same.</summary>
    internal object? SharedOwner
    {
        get => _owner;
        init => _owner = value;
    }

    /// <summary>Extended attributes of Linux, with their full names.</summary>
    public IReadOnlyList<NamedValue> PosixAttributes
    {
        get => Known.PosixAttributes;
        init
        {
            if (value.Count > 0 || _rare is not null)
                _rare = Known with { PosixAttributes = value };
        }
    }

    /// <summary>A folder whose names differ by case.</summary>
    public bool CaseSensitive
    {
        get => Known.CaseSensitive;
        init
        {
            if (value || _rare is not null)
                _rare = Known with { CaseSensitive = value };
        }
    }

    /// <summary>In which form the source's volume kept the file compacted; its content here is the plain one.</summary>
    public CompactedForm Compaction
    {
        get => Known.Compaction;
        init
        {
            if (value != CompactedForm.None || _rare is not null)
                _rare = Known with { Compaction = value };
        }
    }

    /// <summary>The content's length in bytes, stored or new; 0 for others.</summary>
    public long Length => New?.Length ?? Content?.Length ?? 0;

    /// <summary>Whether the name is the same without regard to case.</summary>
    public bool HasName(string name) => Name.Equals(name, StringComparison.OrdinalIgnoreCase);
}
