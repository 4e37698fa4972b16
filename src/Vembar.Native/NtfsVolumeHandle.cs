using System.Collections.Concurrent;
using System.Runtime.InteropServices;
using Microsoft.Win32.SafeHandles;

namespace Vembar.Native;

/// <summary>
/// A volume of the library with the device that it lies on. The library takes one thread at a time for a volume; so what nobody closed of
/// it, and the collector found, is handed back here and closed with it, not by the collector's thread.
/// </summary>
internal sealed unsafe partial class NtfsVolumeHandle : SafeHandleZeroOrMinusOneIsInvalid
{
    [LibraryImport(NtfsVolume.Library, SetLastError = true)] private static partial int ntfs_umount(nint volume, int force);
    [LibraryImport(NtfsVolume.Library, SetLastError = true)] private static partial int ntfs_inode_close(nint inode);
    [LibraryImport(NtfsVolume.Library)] private static partial void ntfs_attr_close(nint attribute);

    private const int ContextLength = 64;
    private readonly NtfsDeviceBridge _bridge;
    private readonly ConcurrentQueue<nint> _files = new(), _data = new();

    /// <param name="bridge">The device, which goes with the volume.</param>
    /// <param name="volume">The library's volume.</param>
    public NtfsVolumeHandle(NtfsDeviceBridge bridge, nint volume) : base(ownsHandle: true)
    {
        _bridge = bridge;
        SetHandle(volume);
        Context = (nint*)NativeMemory.AllocZeroed(ContextLength);
        *Context = volume;
    }

    /// <summary>A security context of the library: the volume and no mapping of users.</summary>
    public nint* Context { get; }

    /// <summary>What could not be finished when it was closed; null for nothing.</summary>
    public NativeException? Failure { get; private set; }

    /// <summary>Takes a file that nobody closed.</summary>
    public void TakeBackFile(nint file) => _files.Enqueue(file);

    /// <summary>Takes a stream that nobody closed.</summary>
    public void TakeBackData(nint data) => _data.Enqueue(data);

    protected override bool ReleaseHandle()
    {
        while (_data.TryDequeue(out var data))
            ntfs_attr_close(data);
        while (_files.TryDequeue(out var file))
            _ = ntfs_inode_close(file);
        var code = ntfs_umount(handle, 0);
        _bridge.Freed();
        NativeMemory.Free(Context);
        if (code != 0 || _bridge.Failure is not null)
            Failure = NtfsVolume.Failed(_bridge, "close", "the volume");
        _bridge.Dispose();
        return code == 0;
    }
}
