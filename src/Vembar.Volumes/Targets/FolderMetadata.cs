using Microsoft.Win32.SafeHandles;
using Vembar.Images.Nodes;
using Vembar.Native;

namespace Vembar.Volumes.Targets;

/// <summary>Gives files and folders of Linux what it can keep of an entry, and counts what it cannot.</summary>
/// <param name="unsupported">Told what cannot be kept.</param>
internal sealed class FolderMetadata(UnsupportedFeatures unsupported)
{
    /// <summary>Whether files can be given to others.</summary>
    public static bool IsRoot { get; } = Posix.IsRoot;

    /// <summary>Gives an open file or folder all but its time.</summary>
    /// <param name="entry">What it is to have.</param>
    /// <param name="parent">The folder that it is in.</param>
    /// <param name="name">Its name there.</param>
    /// <param name="open">The file or folder itself.</param>
    public void Apply(TreeEntry entry, SafeFileHandle parent, byte[] name, SafeFileHandle open)
    {
        SetAttributes(entry, parent, name);
        if (entry.Owner is { } owner)
        {
            if (!IsRoot || !Posix.TrySetOwner(open, owner.Uid, owner.Gid))
                unsupported.Record("owners (only root can give files away)");
            Posix.SetMode(open, owner.Mode);
        }
        else
            Posix.SetMode(open, entry.Kind == EntryKind.Folder ? 0x1EDu : 0x1A4u);
        if ((entry.Attributes ?? 0) is var attributes
            && (attributes & ~(WindowsAttributes.Archive | WindowsAttributes.Directory | WindowsAttributes.Normal)) != 0)
            unsupported.Record("Windows attributes");
        if (!entry.Security.IsNone)
            unsupported.Record("security descriptors");
        if (entry.Streams.Count > 0)
            unsupported.Record("named streams");
        if (entry.Reparse is not null)
            unsupported.Record("reparse points");
        if (entry.ShortName is not null)
            unsupported.Record("short names");
        if (entry.Created is not null)
            unsupported.Record("creation times");
        if (entry.ObjectId is not null || entry.ExtendedAttributes.Count > 0)
            unsupported.Record("object ids and extended attributes");
    }

    /// <summary>Gives an entry its extended attributes.</summary>
    public void SetAttributes(TreeEntry entry, SafeFileHandle parent, byte[] name)
    {
        foreach (var attribute in entry.PosixAttributes)
        {
            if (Posix.TrySetAttribute(parent, name, attribute.Name, attribute.Value) != 0)
                unsupported.Record($"extended attributes '{attribute.Name.Split('.')[0]}.*'");
        }
    }
}
