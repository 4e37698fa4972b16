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

/// <summary>What a file or stream holds.</summary>
/// <param name="Length">Bytes.</param>
/// <param name="Hash">BLAKE3 of all of it, as b3sum prints.</param>
/// <param name="Parts">The pieces in order; null when they are in a list of their own.</param>
/// <param name="List">The chunk that holds the list of pieces; none when they are given here.</param>
public sealed record FileContent(long Length, ChunkId Hash, IReadOnlyList<ContentPart>? Parts, ChunkId List = default)
{
    /// <summary>The bytes themselves while they are yet to be stored; null afterwards.</summary>
    internal byte[]? Bytes { get; init; }

    /// <summary>No bytes at all.</summary>
    public static FileContent Empty { get; } = new(0, Blake3.Hash([]), []);
}

/// <summary>Content that is not in an archive yet: bytes in memory, or a file.</summary>
/// <param name="Bytes">The bytes; null when a file has them.</param>
/// <param name="Path">The file; null when they are in memory.</param>
/// <param name="Length">How many.</param>
public sealed record NewContent(byte[]? Bytes, string? Path, long Length);

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
public sealed record TreeEntry
{
    /// <summary>The name; empty for the root.</summary>
    public required string Name { get; init; }

    /// <summary>File, folder or link.</summary>
    public required EntryKind Kind { get; init; }

    /// <summary>Windows' attributes; null when the source has none.</summary>
    public WindowsAttributes? Attributes { get; init; }

    /// <summary>When the content last changed.</summary>
    public FileTime? Modified { get; init; }

    /// <summary>When it was made.</summary>
    public FileTime? Created { get; init; }

    /// <summary>When anything of it last changed.</summary>
    public FileTime? Changed { get; init; }

    /// <summary>When it was last read.</summary>
    public FileTime? Accessed { get; init; }

    /// <summary>A file's content; null for others and while <see cref="New"/> is set.</summary>
    public FileContent? Content { get; init; }

    /// <summary>Content that is yet to be stored.</summary>
    public NewContent? New { get; init; }

    /// <summary>A folder's node.</summary>
    public ChunkId Folder { get; init; }

    /// <summary>Where a link points.</summary>
    public string? LinkTarget { get; init; }

    /// <summary>The security descriptor (self-relative) as a chunk; none when the source has none.</summary>
    public ChunkId Security { get; init; }

    /// <summary>The security descriptor's bytes while they are yet to be stored.</summary>
    internal byte[]? PendingSecurity { get; init; }

    /// <summary>Reparse tag and data as NTFS keeps them.</summary>
    public byte[]? Reparse { get; init; }

    /// <summary>The 8.3 name.</summary>
    public string? ShortName { get; init; }

    /// <summary>Not 0: all entries of the image with this number are names of one file.</summary>
    public ulong LinkGroup { get; init; }

    /// <summary>NTFS object id (16 to 64 bytes).</summary>
    public byte[]? ObjectId { get; init; }

    /// <summary>NTFS extended attributes.</summary>
    public IReadOnlyList<NamedValue> ExtendedAttributes { get; init; } = [];

    /// <summary>Named streams.</summary>
    public IReadOnlyList<NamedStream> Streams { get; init; } = [];

    /// <summary>Owner and permissions on Linux; null when the source is NTFS.</summary>
    public PosixOwner? Owner { get; init; }

    /// <summary>Extended attributes of Linux, with their full names.</summary>
    public IReadOnlyList<NamedValue> PosixAttributes { get; init; } = [];

    /// <summary>A folder whose names differ by case.</summary>
    public bool CaseSensitive { get; init; }

    /// <summary>The content's length in bytes, stored or new; 0 for others.</summary>
    public long Length => New?.Length ?? Content?.Length ?? 0;

    /// <summary>Whether the name is the same without regard to case.</summary>
    public bool HasName(string name) => Name.Equals(name, StringComparison.OrdinalIgnoreCase);
}
