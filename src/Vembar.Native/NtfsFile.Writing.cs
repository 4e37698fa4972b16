using System.Runtime.CompilerServices;
using System.Runtime.InteropServices;
using System.Text;

namespace Vembar.Native;

public sealed unsafe partial class NtfsFile
{
    [LibraryImport(Library,
        SetLastError = true)]
    private static partial int ntfs_set_ntfs_acl(nint* context, nint inode, byte* value, nuint size, int flags);
    [LibraryImport(Library,
        SetLastError = true)]
    private static partial int ntfs_set_ntfs_attrib(nint inode, byte* value, nuint size, int flags);
    [LibraryImport(Library,
        SetLastError = true)]
    private static partial int ntfs_set_ntfs_reparse_data(nint inode, byte* value, nuint size, int flags);
    [LibraryImport(Library,
        SetLastError = true)]
    private static partial int ntfs_set_ntfs_object_id(nint inode, byte* value, nuint size, int flags);
    [LibraryImport(Library,
        SetLastError = true)]
    private static partial int ntfs_set_ntfs_ea(nint inode, byte* value, nuint size, int flags);
    [LibraryImport(Library, SetLastError = true)]
    private static partial int ntfs_set_ntfs_dos_name(nint inode, nint folder, byte* value,
        nuint size, int flags);
    [LibraryImport(Library, SetLastError = true)]
    private static partial int ntfs_attr_add(nint inode, uint type, char* name,
        byte nameLength, byte* value, long size);
    [LibraryImport(Library, SetLastError = true)]
    private static partial int ntfs_delete(nint volume, byte* path, nint inode, nint folder,
        char* name, byte length);
    [LibraryImport(Library, SetLastError = true)] private static partial int ntfs_link(nint inode, nint folder, char* name, byte length);

    private const uint CompressedAttribute = 0x800;

    /// <summary>Makes this folder look compressed or not to the library, in memory alone, until that is disposed of.</summary>
    internal Restoring Pretending(bool? compressed)
    {
        var before = At<uint>(FlagsAt);
        if (compressed is { } wanted)
            Unsafe.WriteUnaligned((byte*)Handle + FlagsAt, wanted ? before | CompressedAttribute : before & ~CompressedAttribute);
        return new Restoring(this, before);
    }

    internal readonly struct Restoring(NtfsFile file, uint before) : IDisposable
    {
        public void Dispose() =>
            Unsafe.WriteUnaligned((byte*)file.Handle + FlagsAt,
            (file.At<uint>(FlagsAt) & ~CompressedAttribute) | (before & CompressedAttribute));
    }

    /// <summary>The number under which the volume keeps this file's security descriptor; 0 when it has one of its own.</summary>
    public uint SecurityId => At<uint>(SecurityIdAt);

    private void Set(string what, ReadOnlySpan<byte> value, delegate*<nint, byte*, nuint, int, int> set)
    {
        fixed (byte* bytes = value)
        {
            if (set(Handle, bytes, (nuint)value.Length, 0) != 0)
                throw Volume.Failed($"set the {what} of", DisplayName);
        }
    }

    /// <summary>Sets the self-relative security descriptor.</summary>
    /// <exception cref="NativeException">It is not a valid one, or cannot be written.</exception>
    public void SetSecurity(ReadOnlySpan<byte> descriptor)
    {
        fixed (byte* bytes = descriptor)
        {
            if (ntfs_set_ntfs_acl(Volume.Context, Handle, bytes, (nuint)descriptor.Length, 0) != 0)
                throw Volume.Failed("set the security descriptor of", DisplayName);
        }
    }

    /// <summary>Sets the attributes that can be set; compression only while it holds nothing.</summary>
    /// <exception cref="NativeException">They cannot be written.</exception>
    public void SetAttributes(uint attributes) =>
        Set("attributes", MemoryMarshal.AsBytes(new ReadOnlySpan<uint>(in attributes)), &ntfs_set_ntfs_attrib);

    /// <summary>Makes it a reparse point; a folder must be empty.</summary>
    /// <exception cref="NativeException">The data is not valid, or cannot be written.</exception>
    public void SetReparse(ReadOnlySpan<byte> data) => Set("reparse data", data, &ntfs_set_ntfs_reparse_data);

    /// <summary>Sets the object id.</summary>
    /// <exception cref="NativeException">Another file has it, or it cannot be written.</exception>
    public void SetObjectId(ReadOnlySpan<byte> id) => Set("object id", id, &ntfs_set_ntfs_object_id);

    /// <summary>Sets the extended attributes, as a list in NTFS' own form.</summary>
    /// <exception cref="NativeException">The list is not valid, or cannot be written.</exception>
    public void SetExtendedAttributes(ReadOnlySpan<byte> list) => Set("extended attributes", list, &ntfs_set_ntfs_ea);

    /// <summary>Makes a named stream.</summary>
    /// <exception cref="NativeException">There is one, or it cannot be made.</exception>
    public NtfsData AddStream(string name)
    {
        fixed (char* characters = name)
        {
            if (ntfs_attr_add(Handle, AttributeData, characters, (byte)name.Length, null, 0) != 0)
                throw Volume.Failed($"make the stream '{name}' of", DisplayName);
        }
        return OpenData(name);
    }

    /// <summary>Sets all four times, in 100 ns since 1601. They stay when nothing of the file is changed after.</summary>
    public void SetTimes(long created, long modified, long changed, long accessed)
    {
        // Those bits say that the record, and the copies of the times in the folders, are to be written.
        const nuint IsDirty = 1, NamesAreDirty = 8;
        var times = (byte*)Handle + TimesAt;
        Unsafe.WriteUnaligned(times, created);
        Unsafe.WriteUnaligned(times + 8, modified);
        Unsafe.WriteUnaligned(times + 16, changed);
        Unsafe.WriteUnaligned(times + 24, accessed);
        Unsafe.WriteUnaligned((byte*)Handle + StateAt, At<nuint>(StateAt) | IsDirty | NamesAreDirty);
    }

    /// <summary>Gives it one more name.</summary>
    /// <exception cref="NativeException">There is a file of this name, or it cannot be written.</exception>
    public void Link(NtfsFile folder, string name)
    {
        fixed (char* characters = name)
        {
            if (ntfs_link(Handle, folder.Handle, characters, (byte)name.Length) != 0)
                throw Volume.Failed("make the hard link", name);
        }
    }

    /// <summary>Takes one of its names away, and the file with the last. Closes it and the folder.</summary>
    /// <exception cref="NativeException">There is no such name in the folder, the folder is not empty, or it cannot be written.</exception>
    public void DeleteAndClose(NtfsFile folder, string name)
    {
        if (!Volume.MayWrite)
            throw new NativeException("remove", DisplayName, Errno.ReadOnly);
        fixed (char* characters = name)
        {
            var code = ntfs_delete(Volume.Handle, null, Handle, folder.Handle, characters, (byte)name.Length);
            Forget();
            folder.Forget();
            if (code != 0)
                throw Volume.Failed("remove", DisplayName);
        }
    }

    /// <summary>Sets its 8.3 name, before it gets a second name. Closes it and the folder.</summary>
    /// <returns>False when the name is taken or not of that form.</returns>
    public bool TrySetShortNameAndClose(NtfsFile folder, string name)
    {
        var bytes = Encoding.UTF8.GetBytes(name);
        fixed (byte* value = bytes)
        {
            var code = ntfs_set_ntfs_dos_name(Handle, folder.Handle, value, (nuint)bytes.Length, 0);
            Forget();
            folder.Forget();
            return code == 0;
        }
    }
}
