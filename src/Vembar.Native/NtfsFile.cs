using System.Buffers.Binary;
using System.Runtime.CompilerServices;
using System.Runtime.InteropServices;

namespace Vembar.Native;

/// <summary>An open file or folder of an NTFS volume. One thread at a time, as its volume.</summary>
public sealed unsafe partial class NtfsFile : IDisposable
{
    private const string Library = NtfsVolume.Library;
    private const uint AttributeFileName = 0x30, AttributeObjectId = 0x40, AttributeData = 0x80, AttributeReparse = 0xC0,
        AttributeExtended = 0xE0, AttributeEnd = 0xFFFFFFFF;
    private const int NumberAt = 0, RecordAt = 8, StateAt = 24, FlagsAt = 32, DataSizeAt = 64, AllocatedAt = 72, TimesAt = 80,
        SecurityIdAt = 116;
    private const int RecordFlagsAt = 22, IsFolderFlag = 2;
    // Longer metadata than this is not made by Windows.
    private const int LongestMetadata = 1 << 20;
    private const int GuidLength = 16;

    [LibraryImport(Library, SetLastError = true)] private static partial int ntfs_inode_close(nint inode);
    [LibraryImport(Library, SetLastError = true)] private static partial int ntfs_inode_close_in_dir(nint inode, nint folder);
    [LibraryImport(Library, SetLastError = true)]
    private static partial int ntfs_readdir(nint folder, long* position, nint data,
        delegate* unmanaged[Cdecl]<nint, char*, int, int, long, ulong, uint, int> each);
    [LibraryImport(Library, SetLastError = true)] private static partial nint ntfs_attr_get_search_ctx(nint inode, nint record);
    [LibraryImport(Library)] private static partial void ntfs_attr_put_search_ctx(nint context);
    [LibraryImport(Library, SetLastError = true)]
    private static partial int ntfs_attr_lookup(uint type, char* name, uint nameLength,
        int ignoreCase, long lowestVcn, byte* value, uint valueLength, nint context);
    [LibraryImport(Library,
        SetLastError = true)]
    private static partial int ntfs_get_ntfs_acl(nint* context, nint inode, byte* value, nuint size);
    [LibraryImport(Library, SetLastError = true)] private static partial int ntfs_get_ntfs_attrib(nint inode, byte* value, nuint size);
    [LibraryImport(Library,
        SetLastError = true)]
    private static partial ulong ntfs_inode_lookup_by_name(nint folder, char* name, int length);

    [LibraryImport(Library, SetLastError = true)] private static partial int ntfs_get_ntfs_object_id(nint inode, byte* value, nuint size);

    private readonly NtfsOpenHandle _inode;

    internal NtfsFile(NtfsVolume volume, nint inode, string displayName)
    {
        Volume = volume;
        _inode = new NtfsOpenHandle(inode, volume.SafeHandle.TakeBackFile);
        DisplayName = displayName;
    }

    internal NtfsVolume Volume { get; }

    internal string DisplayName { get; }

    /// <summary>Why what the library has of this file cannot be; null when it can.</summary>
    /// <param name="number">The file's number.</param>
    internal string? Contradiction(ulong number)
    {
        const ulong NumberMask = 0xFFFF_FFFF_FFFF;
        var record = At<nint>(RecordAt);
        return (At<ulong>(NumberAt) & NumberMask) != number ? $"file {At<ulong>(NumberAt)} in the place of file {number}"
            : record == 0 || !new ReadOnlySpan<byte>((byte*)record, 4).SequenceEqual("FILE"u8) ? "no record of a file where one is read"
            : null;
    }

    internal nint Handle => !_inode.IsClosed ? _inode.DangerousGetHandle() : throw new ObjectDisposedException(nameof(NtfsFile));

    private T At<T>(int offset) where T : unmanaged => Unsafe.ReadUnaligned<T>((byte*)Handle + offset);

    /// <summary>Its number, without the sequence number.</summary>
    public ulong Number => At<ulong>(NumberAt);

    /// <summary>Bytes of the unnamed stream.</summary>
    public long Length => At<long>(DataSizeAt);

    /// <summary>Bytes that the unnamed stream takes on the volume.</summary>
    public long AllocatedLength => At<long>(AllocatedAt);

    /// <summary>Whether it is a folder.</summary>
    public bool IsFolder => (Unsafe.ReadUnaligned<ushort>((byte*)At<nint>(RecordAt) + RecordFlagsAt) & IsFolderFlag) != 0;

    /// <summary>The names in this folder, those in the 8.3 form alone left out, in the order of the index.</summary>
    /// <exception cref="NativeException">It is no folder or its index is damaged.</exception>
    public List<NtfsName> Names()
    {
        var names = new List<NtfsName>();
        var handle = GCHandle.Alloc(names);
        try
        {
            long position = 0;
            if (ntfs_readdir(Handle, &position, GCHandle.ToIntPtr(handle), &Collect) != 0)
                throw Volume.Failed("list the folder", DisplayName);
        }
        finally
        {
            handle.Free();
        }
        return names;
    }

    [UnmanagedCallersOnly(CallConvs = [typeof(CallConvCdecl)])]
    private static int Collect(nint data, char* name, int length, int kind, long position, ulong reference, uint type)
    {
        const int DosOnly = 2;
        if (kind == DosOnly || length is < 0 or > 255)
            return 0;
        var text = new string(name, 0, length);
        if (text is not ("." or ".."))
            ((List<NtfsName>)GCHandle.FromIntPtr(data).Target!).Add(new NtfsName(text, reference));
        return 0;
    }

    /// <summary>The number that a name in this folder leads to, compared as the volume compares names; null when there is none.</summary>
    public ulong? Find(string name)
    {
        fixed (char* characters = name)
        {
            var found = ntfs_inode_lookup_by_name(Handle, characters, name.Length);
            return found == ulong.MaxValue ? null : found;
        }
    }

    /// <summary>Reads everything but content.</summary>
    /// <exception cref="NativeException">The file's record is damaged.</exception>
    public NtfsDescription Describe()
    {
        uint attributes = 0;
        if (ntfs_get_ntfs_attrib(Handle, (byte*)&attributes, sizeof(uint)) < 0)
            throw Volume.Failed("read the attributes of", DisplayName);
        var names = new List<NtfsFileName>();
        List<(string, long)>? streams = null;
        byte[]? reparse = null, objectId = null, extended = null;
        var context = ntfs_attr_get_search_ctx(Handle, 0);
        if (context == 0)
            throw Volume.Failed("read", DisplayName);
        try
        {
            while (ntfs_attr_lookup(0, null, 0, 0, 0, null, 0, context) == 0)
            {
                // ATTR_RECORD: type, length, non-resident, name length, name offset; then resident value or runs.
                var record = *(byte**)(context + 8);
                var type = Unsafe.ReadUnaligned<uint>(record);
                if (type == AttributeEnd)
                    break;
                var attribute = new ReadOnlySpan<byte>(record, (int)Math.Min(Unsafe.ReadUnaligned<uint>(record + 4), 1 << 16));
                var resident = attribute[8] == 0;
                switch (type)
                {
                    case AttributeFileName when resident && Value(attribute) is { Length: >= 66 } name && 66 + 2 * name[64] <= name.Length:
                        names.Add(new NtfsFileName(
                            BinaryPrimitives.ReadUInt64LittleEndian(name) & 0xFFFFFFFFFFFF,
                            new string(MemoryMarshal.Cast<byte, char>(name.Slice(66, 2 * name[64]))), name[65] != 2, name[65] is 2 or 3));
                        break;
                    case AttributeData when attribute[9] > 0 && (resident || BinaryPrimitives.ReadInt64LittleEndian(attribute[16..]) == 0):
                        int nameAt = BinaryPrimitives.ReadUInt16LittleEndian(attribute[10..]), nameLength = 2 * attribute[9];
                        if (nameAt + nameLength <= attribute.Length && (resident || attribute.Length >= 56))
                        {
                            (streams ??= []).Add((new string(MemoryMarshal.Cast<byte, char>(attribute.Slice(nameAt, nameLength))),
                                resident ? BinaryPrimitives.ReadUInt32LittleEndian(attribute[16..])
                                : BinaryPrimitives.ReadInt64LittleEndian(attribute[48..])));
                        }
                        break;
                    case AttributeObjectId when resident:
                        objectId = Value(attribute).ToArray();
                        break;
                    case AttributeReparse:
                        reparse = resident ? Value(attribute).ToArray() : [];
                        break;
                    case AttributeExtended:
                        extended = resident ? Value(attribute).ToArray() : [];
                        break;
                }
            }
            if (Marshal.GetLastPInvokeError() is not (Errno.NotFound or 0))
                throw Volume.Failed("read the record of", DisplayName);
        }
        finally
        {
            ntfs_attr_put_search_ctx(context);
        }
        // What did not fit into the record lies elsewhere.
        if (reparse is { Length: 0 })
            reparse = ReadMetadata(AttributeReparse);
        if (extended is { Length: 0 })
            extended = ReadMetadata(AttributeExtended);
        if (objectId is { Length: GuidLength })
            objectId = WholeObjectId(objectId);
        long Time(int index) => At<long>(TimesAt + 8 * index);
        return new NtfsDescription(attributes, Time(0), Time(1), Time(2), Time(3), IsFolder, Length, names, streams ?? [], reparse,
            objectId, extended, Security());
    }

    // Where the file came from (48 bytes of birth identifiers) is in the volume's index of object ids alone.
    private byte[] WholeObjectId(byte[] own)
    {
        var whole = new byte[4 * GuidLength];
        fixed (byte* to = whole)
        {
            var length = ntfs_get_ntfs_object_id(Handle, to, (nuint)whole.Length);
            return length == whole.Length && whole.AsSpan(0, GuidLength).SequenceEqual(own) ? whole : own;
        }
    }

    private static ReadOnlySpan<byte> Value(ReadOnlySpan<byte> attribute)
    {
        uint length = BinaryPrimitives.ReadUInt32LittleEndian(attribute[16..]),
            offset = BinaryPrimitives.ReadUInt16LittleEndian(attribute[20..]);
        return offset + (ulong)length <= (ulong)attribute.Length ? attribute.Slice((int)offset, (int)length) : default;
    }

    private byte[] ReadMetadata(uint type)
    {
        using var data = new NtfsData(this, type, "");
        if (data.Length is < 0 or > LongestMetadata)
            throw new NativeException("read the metadata of", DisplayName, Errno.InputOutput);
        var bytes = new byte[data.Length];
        return data.Read(bytes, 0) == bytes.Length ? bytes
            : throw new NativeException("read the metadata of", DisplayName, Errno.InputOutput);
    }

    // Descriptors are shared by many files of a volume, by number.
    private byte[]? Security()
    {
        var id = At<uint>(SecurityIdAt);
        if (id != 0 && Volume.KnownSecurity.TryGetValue(id, out var known))
            return known;
        var size = ntfs_get_ntfs_acl(Volume.Context, Handle, null, 0);
        if (size <= 0)
            return null;
        var bytes = new byte[size];
        fixed (byte* to = bytes)
        {
            if (ntfs_get_ntfs_acl(Volume.Context, Handle, to, (nuint)size) != size)
                throw Volume.Failed("read the security descriptor of", DisplayName);
        }
        if (id != 0)
            Volume.KnownSecurity[id] = bytes;
        return bytes;
    }

    /// <summary>Opens the unnamed stream or a named one.</summary>
    /// <exception cref="NativeException">There is none or it is damaged.</exception>
    public NtfsData OpenData(string stream = "") => new(this, AttributeData, stream);

    /// <summary>Closes it, after a change together with the folder that it was made in.</summary>
    /// <exception cref="NativeException">The record could not be written.</exception>
    public void Close(NtfsFile? folder = null)
    {
        if (_inode.Detach() is not (not 0 and var inode))
            return;
        if ((folder is null ? ntfs_inode_close(inode) : ntfs_inode_close_in_dir(inode, folder.Handle)) != 0 && Volume.MayWrite)
            throw Volume.Failed("write", DisplayName);
    }

    /// <summary>Says that the library has closed it.</summary>
    internal void Forget() => _inode.Detach();

    /// <inheritdoc/>
    public void Dispose()
    {
        try
        {
            Close();
        }
        catch (NativeException)
        {
            // Whoever wrote closes it; here an earlier error is on its way already.
        }
    }
}
