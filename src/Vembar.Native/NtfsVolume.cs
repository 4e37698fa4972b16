using System.Runtime.CompilerServices;
using System.Runtime.InteropServices;

namespace Vembar.Native;

/// <summary>
/// An NTFS volume through libntfs-3g, on any stretch of bytes, without mounting it. One thread at a time; several volumes
/// may be open over the same unchanging bytes. The offsets into the library's structures are those of its ABI 89, x64 and
/// arm64, which is why that version is asked for by name.
/// </summary>
public sealed unsafe partial class NtfsVolume : IDisposable
{
    internal const string Library = "libntfs-3g.so.89";
    private const int MajorAt = 32, FlagsAt = 34, ClusterSizeAt = 40, ClustersAt = 112, NameAt = 8, FreeClustersAt = 272;

    /// <summary>The number of the root folder.</summary>
    public const ulong Root = 5;

    /// <summary>Files below this number are NTFS's own.</summary>
    public const ulong FirstUserFile = 16;

    [LibraryImport(Library, SetLastError = true)] private static partial nint ntfs_device_mount(nint device, uint flags);
    [LibraryImport(Library)] private static partial void ntfs_create_lru_caches(nint volume);
    [LibraryImport(Library, SetLastError = true)] private static partial nint ntfs_inode_open(nint volume, ulong reference);
    [LibraryImport(Library, SetLastError = true)] private static partial int ntfs_volume_get_free_space(nint volume);
    [LibraryImport(Library, SetLastError = true)] private static partial int ntfs_volume_rename(nint volume, char* label, int length);

    private readonly NtfsDeviceBridge _bridge;
    private readonly Dictionary<uint, byte[]> _security = [];
    private readonly NtfsVolumeHandle _volume;

    private IDisposable? _device;

    private NtfsVolume(NtfsDeviceBridge bridge, nint volume, bool write)
    {
        _bridge = bridge;
        _volume = new NtfsVolumeHandle(bridge, volume);
        MayWrite = write;
    }

    /// <summary>Opens a volume.</summary>
    /// <param name="device">The bytes it lies on, from its boot sector on.</param>
    /// <param name="write">Whether it is to be changed. Without it not a bit of the device is.</param>
    /// <param name="keepDevice">Whether the device stays open when the volume is closed.</param>
    /// <exception cref="NativeException">It is no NTFS volume (22), too short or damaged (5), hibernated or not cleanly closed and to be
    /// written (1).</exception>
    /// <exception cref="DllNotFoundException">The library is not installed.</exception>
    public static NtfsVolume Open(INtfsDevice device, bool write, bool keepDevice = false)
    {
        // Without the forensic flag a read-only mount still looks whether it might write.
        const uint ReadOnly = 1, Forensic = 0x04000000;
        var bridge = new NtfsDeviceBridge(device);
        NtfsVolume opened;
        try
        {
            var volume = ntfs_device_mount(bridge.Handle.DangerousGetHandle(), write ? 0 : ReadOnly | Forensic);
            if (volume == 0)
                throw Failed(bridge, "open the NTFS volume", "");
            ntfs_create_lru_caches(volume);
            opened = new NtfsVolume(bridge, volume, write);
        }
        catch
        {
            bridge.Dispose();
            throw;
        }
        try
        {
            opened.TestPlaces(device);
        }
        catch
        {
            // The device stays the caller's when this fails.
            opened.Dispose();
            throw;
        }
        opened._device = keepDevice ? null : device as IDisposable;
        return opened;
    }

    // The library's structures are looked into at places that it does not promise. Where they are others, what is found there contradicts
    // what the volume says of itself; then nothing that it holds can be relied on.
    private void TestPlaces(INtfsDevice device)
    {
        var boot = new byte[NtfsBootSector.Length];
        if (device.Read(boot, 0) < boot.Length || NtfsBootSector.TryRead(boot) is not { } sector)
            return;
        var problem = sector.Contradiction(MajorVersion, ClusterSize, Clusters);
        if (problem is null)
        {
            using var root = Open(Root, "the root folder");
            problem = root.Contradiction(Root);
        }
        if (problem is not null)
            throw new DllNotFoundException($"{LibraryName()} is not the library that this program was made for: it has {problem}");
    }

    // The file that was loaded under the library's name: its ending is its version.
    private static string LibraryName()
    {
        const string Maps = "/proc/self/maps", Name = "libntfs-3g.so";
        var line = File.Exists(Maps) ? File.ReadLines(Maps).FirstOrDefault(l => l.Contains(Name, StringComparison.Ordinal)) : null;
        return line is null ? Library : line[line.LastIndexOf('/')..].TrimStart('/');
    }

    internal nint Handle => !_volume.IsClosed ? _volume.DangerousGetHandle() : throw new ObjectDisposedException(nameof(NtfsVolume));

    internal NtfsVolumeHandle SafeHandle => _volume;

    internal bool MayWrite { get; }

    /// <summary>A security context of the library: the volume and no mapping of users.</summary>
    internal nint* Context => _volume.Context;

    internal Dictionary<uint, byte[]> KnownSecurity => _security;

    private T At<T>(int offset) where T : unmanaged => Unsafe.ReadUnaligned<T>((byte*)Handle + offset);

    /// <summary>Whether the device under it failed, also when that was tried again.</summary>
    public bool HasDeviceFailed => _bridge.HasFailed;

    /// <summary>NTFS' version: 3 for all since Windows 2000.</summary>
    public byte MajorVersion => At<byte>(MajorAt);

    /// <summary>True when Windows did not close it cleanly (VOLUME_IS_DIRTY).</summary>
    public bool IsDirty => (At<ushort>(FlagsAt) & 1) != 0;

    /// <summary>Bytes of a cluster.</summary>
    public int ClusterSize => (int)At<uint>(ClusterSizeAt);

    /// <summary>The volume's length in clusters.</summary>
    public long Clusters => At<long>(ClustersAt);

    /// <summary>The volume's label.</summary>
    public string Label => Marshal.PtrToStringUTF8(At<nint>(NameAt)) ?? "";

    /// <summary>Free bytes.</summary>
    /// <exception cref="NativeException">The cluster bitmap cannot be read.</exception>
    public long FreeBytes()
    {
        if (ntfs_volume_get_free_space(Handle) != 0)
            throw Failed("count the free clusters of", "the volume");
        return At<long>(FreeClustersAt) * ClusterSize;
    }

    /// <summary>Opens a file or folder by its number.</summary>
    /// <param name="reference">Its number; with a sequence number it must be right.</param>
    /// <param name="displayName">What it is, for messages.</param>
    /// <exception cref="NativeException">There is no such file, or its record is damaged.</exception>
    public NtfsFile Open(ulong reference, string displayName)
    {
        var inode = ntfs_inode_open(Handle, reference);
        return inode == 0 ? throw Failed("open", displayName) : new NtfsFile(this, inode, displayName);
    }

    internal NativeException Failed(string operation, string target) => Failed(_bridge, operation, target);

    // What went wrong with the device says more than what the library made of it.
    internal static NativeException Failed(NtfsDeviceBridge bridge, string operation, string target)
    {
        var errno = Marshal.GetLastPInvokeError();
        if (bridge.Failure is not { } failure)
            return new NativeException(operation, target, errno);
        bridge.Failure = null;
        return new NativeException(operation, target, failure is NativeException native ? native.Errno : errno, failure);
    }

    /// <summary>Closes it. After writing this is what makes it whole.</summary>
    /// <exception cref="NativeException">What was written could not be finished.</exception>
    public void Close()
    {
        if (_volume.IsClosed)
            return;
        _volume.Dispose();
        _device?.Dispose();
        if (_volume.Failure is { } failure && MayWrite)
            throw failure;
    }

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
