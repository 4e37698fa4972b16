using System.Runtime.InteropServices;

namespace Vembar.Native;

public sealed unsafe partial class NtfsVolume
{
    [LibraryImport(Library, SetLastError = true)] private static partial int ntfs_volume_write_flags(nint volume, ushort flags);
    [LibraryImport(Library,
        SetLastError = true)]
    private static partial nint ntfs_create(nint folder, uint security, char* name, byte length, uint type);

    /// <summary>Makes a file or folder.</summary>
    /// <param name="folder">Where.</param>
    /// <param name="name">Its name, 1 to 255 characters, without '/' and NUL.</param>
    /// <param name="isFolder">Whether it is a folder.</param>
    /// <param name="security">The number of a descriptor that the volume has, from <see cref="NtfsFile.SecurityId"/>; 0 for that of the
    /// folder itself, which is what most hand down.</param>
    /// <param name="displayName">What it is, for messages.</param>
    /// <param name="compressed">Whether it is compressed; null for as the folder is.</param>
    /// <exception cref="NativeException">There is one already, no room, or the volume is open for reading only.</exception>
    public NtfsFile Create(NtfsFile folder, string name, bool isFolder, uint security, string displayName, bool? compressed = null)
    {
        const uint TypeFile = 0x8000, TypeFolder = 0x4000;
        // The library itself neither looks at names nor at how the volume was opened.
        if (!MayWrite)
            throw new NativeException("make", displayName, Errno.ReadOnly);
        if (name.Length is 0 or > 255 || name.AsSpan().ContainsAny('/', '\0') || name is "." or "..")
            throw new NativeException("make", displayName, name.Length > 255 ? Errno.NameTooLong : Errno.Invalid);
        if (security == 0)
            security = folder.SecurityId;
        // The library has no other way to say so than the folder's attribute, which is set for as long as this takes.
        using var asFolder = folder.Pretending(compressed);
        fixed (char* characters = name)
        {
            var inode = ntfs_create(folder.Handle, security, characters, (byte)name.Length, isFolder ? TypeFolder : TypeFile);
            return inode == 0 ? throw Failed("make", displayName) : new NtfsFile(this, inode, displayName);
        }
    }

    /// <summary>Notes on the volume itself whether it is in the middle of being written: whoever opens it next is warned.</summary>
    /// <exception cref="NativeException">It cannot be written.</exception>
    public void MarkDirty(bool isDirty)
    {
        const ushort Dirty = 1;
        var flags = At<ushort>(FlagsAt);
        if (ntfs_volume_write_flags(Handle, (ushort)(isDirty ? flags | Dirty : flags & ~Dirty)) != 0)
            throw Failed("mark", "the volume");
    }

    /// <summary>Sets the volume's label.</summary>
    /// <exception cref="NativeException">It cannot be set.</exception>
    public void Rename(string label)
    {
        fixed (char* characters = label.Length > 0 ? label : "\0")
        {
            if (ntfs_volume_rename(Handle, characters, label.Length) != 0)
                throw Failed("set the label of", "the volume");
        }
    }
}
