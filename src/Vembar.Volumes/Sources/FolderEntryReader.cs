using System.Buffers.Binary;
using Microsoft.Win32.SafeHandles;
using Vembar.Common;
using Vembar.Images.Nodes;
using Vembar.Native;
using Vembar.Volumes.Compaction;

namespace Vembar.Volumes.Sources;

/// <summary>Reads what Linux says of files; on a mount by ntfs-3g, what Windows keeps of them.</summary>
/// <param name="displayName">The folder that is walked over, for messages.</param>
/// <param name="isWindows">Whether it is such a mount.</param>
internal sealed class FolderEntryReader(string displayName, bool isWindows)
{
    /// <summary>Whether the metadata of Windows is read.</summary>
    public bool IsWindows => isWindows;

    /// <summary>A file's extended attributes.</summary>
    public static IReadOnlyList<NamedValue> Attributes(SafeFileHandle parent, ReadOnlySpan<byte> raw)
    {
        List<NamedValue>? attributes = null;
        foreach (var key in Posix.ListAttributes(parent, raw))
        {
            if (Posix.GetAttribute(parent, raw, key) is { } value)
                (attributes ??= []).Add(new NamedValue(key, value));
        }
        return attributes is null ? [] : attributes;
    }

    /// <summary>What a file or folder is, without its content.</summary>
    /// <param name="parent">The folder that it is in.</param>
    /// <param name="raw">Its name there, with a NUL at the end.</param>
    /// <param name="name">Its name.</param>
    /// <param name="stat">What was told of it already.</param>
    /// <param name="target">Where a link points.</param>
    /// <param name="walk">Told what cannot be read.</param>
    /// <param name="withoutAttributes">Whether its extended attributes are asked for later.</param>
    public TreeEntry Describe(SafeFileHandle parent, ReadOnlySpan<byte> raw, string name, PosixStat stat, string? target, SourceWalk walk,
        bool withoutAttributes = false)
    {
        if (isWindows)
            return DescribeWindows(parent, raw, name, stat, target, walk);
        // Access and change times belong to the Linux file, not to the install: reading or copying it would change them.
        return new TreeEntry
        {
            Name = name,
            Kind = stat.Kind switch { PosixKind.Folder => EntryKind.Folder, PosixKind.Link => EntryKind.Link, _ => EntryKind.File },
            Modified = FileTime.From(stat.Modified),
            LinkTarget = target,
            Owner = new PosixOwner(stat.Mode, stat.Uid, stat.Gid),
            PosixAttributes = withoutAttributes ? [] : Attributes(parent, raw),
        };
    }

    // ntfs-3g(8), "Extended attributes": values are as NTFS keeps them, those ending in _be in big-endian order.
    private TreeEntry DescribeWindows(SafeFileHandle parent, ReadOnlySpan<byte> raw, string name, PosixStat stat, string? target,
        SourceWalk walk)
    {
        var value = Posix.GetAttribute(parent, raw, "system.ntfs_attrib_be");
        var attributes = value is { Length: >= 4 } ? (WindowsAttributes)BinaryPrimitives.ReadUInt32BigEndian(value)
            : WindowsAttributes.None;
        var reparse = attributes.HasFlag(WindowsAttributes.Reparse) ? Posix.GetAttribute(parent, raw, "system.ntfs_reparse_data") : null;
        if (stat.Kind != PosixKind.Folder && ReparseTag.KeepsContentElsewhere(reparse))
            walk.KeptElsewhere(name, ReparseTag.Elsewhere);
        if (stat.Kind != PosixKind.Folder && CompactedForms.Of(reparse) != CompactedForm.None)
            walk.KeptElsewhere(name,
                "are compacted, which cannot be read through a mount (name the volume itself, its disk image or device)");
        if (attributes.HasFlag(WindowsAttributes.Encrypted))
            walk.Problems.Add(VembarException.Input("encrypted-file", $"'{displayName}/{name}' is encrypted by the file system",
                "Decrypt it on the reference, or leave it out."));
        var times = Posix.GetAttribute(parent, raw, "system.ntfs_times_be");
        FileTime? Time(int index) =>
            times is { Length: >= 32 } ? new FileTime(BinaryPrimitives.ReadInt64BigEndian(times.AsSpan(8 * index))) : null;
        var isFolder = reparse is null ? stat.Kind == PosixKind.Folder
            : attributes.HasFlag(WindowsAttributes.Directory) || stat.Kind == PosixKind.Folder;
        var acl = Posix.GetAttribute(parent, raw, "system.ntfs_acl");
        // The root has no short name, and asking for it is an error.
        var shortName = name.Length == 0 ? null : Posix.GetAttribute(parent, raw, "system.ntfs_dos_name");
        return new TreeEntry
        {
            Name = name,
            Kind = isFolder ? EntryKind.Folder : EntryKind.File,
            Attributes = attributes,
            Created = Time(0),
            Modified = Time(1) ?? FileTime.From(stat.Modified),
            Accessed = Time(2),
            Changed = Time(3),
            Reparse = reparse,
            ShortName = shortName is { Length: > 0 } ? PosixName.Decode(shortName) : null,
            ObjectId = Posix.GetAttribute(parent, raw, "system.ntfs_object_id"),
            ExtendedAttributes = ExtendedAttributeList.Parse(Posix.GetAttribute(parent, raw, "system.ntfs_ea")),
            PendingStreams = Streams(parent, raw),
            PendingSecurity = acl,
        };
    }

    private static List<PendingStream> Streams(SafeFileHandle parent, ReadOnlySpan<byte> raw)
    {
        const string Prefix = "user.";
        var streams = new List<PendingStream>();
        foreach (var key in Posix.ListAttributes(parent, raw))
        {
            if (key.StartsWith(Prefix, StringComparison.Ordinal))
                streams.Add(new PendingStream(key[Prefix.Length..], Posix.GetAttribute(parent, raw, key) ?? []));
        }
        return streams;
    }
}
