using Vembar.Store.Hashing;

namespace Vembar.Images.Nodes;

/// <summary>An entry of a folder with everything that is kept of it. A value: editing makes a new one.</summary>
/// <remarks>There is one for every file of an image, so what few entries have is kept apart, in an object that most lack.</remarks>
public sealed record TreeEntry
{
    private ExtraFields? _rare;
    private NtfsFields? _windows;
    private object? _owner;
    private long _modified;
    private byte _modifiedRest;
    private bool _hasModified;

    private sealed record ExtraFields
    {
        public static readonly ExtraFields None = new();
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
    private sealed record NtfsFields
    {
        public static readonly NtfsFields None = new();
        public WindowsAttributes? Attributes { get; init; }
        public long Created { get; init; } = long.MinValue;
        public long Changed { get; init; } = long.MinValue;
        public long Accessed { get; init; } = long.MinValue;
        public ChunkId Security { get; init; }
        public byte[]? PendingSecurity { get; init; }

        public static FileTime? Time(long ticks) => ticks == long.MinValue ? null : new FileTime(ticks);
    }

    private ExtraFields Known => _rare ?? ExtraFields.None;

    private NtfsFields Windows => _windows ?? NtfsFields.None;

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
        get => NtfsFields.Time(Windows.Created);
        init
        {
            if (value is not null || _windows is not null)
                _windows = Windows with { Created = value?.Ticks ?? long.MinValue };
        }
    }

    /// <summary>When anything of it last changed.</summary>
    public FileTime? Changed
    {
        get => NtfsFields.Time(Windows.Changed);
        init
        {
            if (value is not null || _windows is not null)
                _windows = Windows with { Changed = value?.Ticks ?? long.MinValue };
        }
    }

    /// <summary>When it was last read.</summary>
    public FileTime? Accessed
    {
        get => NtfsFields.Time(Windows.Accessed);
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
    public IEnumerable<string> StreamNames =>
        Streams.Select(s => s.Name).Concat(PendingStreams.Select(s => s.Name)).Order(StringComparer.Ordinal);

    /// <summary>Whether two entries of sources have the same security descriptor.</summary>
    public bool SameSecurityAs(TreeEntry other) =>
        Security == other.Security && (PendingSecurity ?? []).AsSpan().SequenceEqual(other.PendingSecurity);

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
