using Vembar.Store.Hashing;

namespace Vembar.Images.Nodes;

/// <summary>What a page says of an entry, for comparing it with a file of Linux; nothing is made of it.</summary>
internal ref struct EntryView
{
    /// <summary>The name in UTF-8.</summary>
    public ReadOnlySpan<byte> Name;

    public EntryKind Kind;

    /// <summary>Whether it has nothing but what a file of Linux with a single name has.</summary>
    public bool IsPlain;

    public FileTime? Modified;
    public long Length;

    /// <summary>The hash of a file's whole content; none of an empty one.</summary>
    public ChunkId Hash;

    /// <summary>Where a link points, in UTF-8.</summary>
    public ReadOnlySpan<byte> Target;

    /// <summary>Whether it has extended attributes.</summary>
    public bool HasAttributes;

    public ChunkId Folder;
    public PosixOwner? Owner;
}
