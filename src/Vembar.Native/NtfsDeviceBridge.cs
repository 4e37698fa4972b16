using System.Runtime.CompilerServices;
using System.Runtime.InteropServices;

namespace Vembar.Native;

/// <summary>Hands the library's device operations (device.h of libntfs-3g) to an <see cref="INtfsDevice"/>.</summary>
internal sealed unsafe partial class NtfsDeviceBridge : IDisposable
{
    private const int StateAt = 8, PrivateAt = 24;
    private const nint IsOpen = 1, IsReadOnly = 2, IsDirty = 4;
    private const int IoError = 5, NotSupported = 95, Invalid = 22;
    private const int AccessMode = 3, Attempts = 3;

    [LibraryImport(NtfsVolume.Library,
        SetLastError = true)]
    private static partial nint ntfs_device_alloc(byte* name, nint state, nint* operations, nint data);

    private readonly INtfsDevice _device;
    private readonly nint* _operations;
    private GCHandle _self;
    private long _position;

    public NtfsDeviceBridge(INtfsDevice device)
    {
        _device = device;
        _self = GCHandle.Alloc(this);
        _operations = (nint*)NativeMemory.Alloc(10, (nuint)sizeof(nint));
        delegate* unmanaged[Cdecl]<nint, int, int> open = &Open;
        delegate* unmanaged[Cdecl]<nint, int> close = &Close;
        delegate* unmanaged[Cdecl]<nint, long, int, long> seek = &Seek;
        delegate* unmanaged[Cdecl]<nint, byte*, long, long> read = &Read;
        delegate* unmanaged[Cdecl]<nint, byte*, long, long> write = &Write;
        delegate* unmanaged[Cdecl]<nint, byte*, long, long, long> readAt = &ReadAt;
        delegate* unmanaged[Cdecl]<nint, byte*, long, long, long> writeAt = &WriteAt;
        delegate* unmanaged[Cdecl]<nint, int> sync = &Sync;
        delegate* unmanaged[Cdecl]<nint, nint, int> stat = &Stat;
        delegate* unmanaged[Cdecl]<nint, nuint, nint, int> control = &Control;
        _operations[0] = (nint)open;
        _operations[1] = (nint)close;
        _operations[2] = (nint)seek;
        _operations[3] = (nint)read;
        _operations[4] = (nint)write;
        _operations[5] = (nint)readAt;
        _operations[6] = (nint)writeAt;
        _operations[7] = (nint)sync;
        _operations[8] = (nint)stat;
        _operations[9] = (nint)control;
        fixed (byte* name = "vembar\0"u8)
            Handle = new NtfsDeviceHandle(ntfs_device_alloc(name, 0, _operations, GCHandle.ToIntPtr(_self)));
        var errno = Marshal.GetLastPInvokeError();
        var allocated = Handle.DangerousGetHandle();
        if (!Handle.IsInvalid && ((nint*)allocated)[PrivateAt / sizeof(nint)] == GCHandle.ToIntPtr(_self) && State(allocated) == 0)
            return;
        Dispose();
        throw allocated == 0 ? new NativeException("allocate an NTFS device", "", errno)
            : new DllNotFoundException($"{NtfsVolume.Library} is not the library that this program was made for: its devices are others");
    }

    /// <summary>The library's device; it is the volume's once that is open.</summary>
    public NtfsDeviceHandle Handle { get; }

    /// <summary>What went wrong with the device itself; taken by who reports the failed call.</summary>
    public Exception? Failure { get; set; }

    /// <summary>Whether the device failed and went on failing when that was tried again: then what is on it is not what was
    /// written.</summary>
    public bool HasFailed { get; private set; }

    /// <summary>Says that the library has freed the device with the volume.</summary>
    public void Freed() => Handle.SetHandleAsInvalid();

    public void Dispose()
    {
        Handle.Dispose();
        NativeMemory.Free(_operations);
        if (_self.IsAllocated)
            _self.Free();
    }

    private static NtfsDeviceBridge Of(nint device) =>
        (NtfsDeviceBridge)GCHandle.FromIntPtr(((nint*)device)[PrivateAt / sizeof(nint)]).Target!;

    private static ref nint State(nint device) => ref ((nint*)device)[StateAt / sizeof(nint)];

    // No exception may leave a callback: the library's frames are below it.
    private long Guarded(Func<long> work)
    {
        try
        {
            return work();
        }
        catch (Exception failure)
        {
            Failure ??= failure;
            HasFailed = true;
            Marshal.SetLastSystemError(failure is NativeException native ? native.Errno : IoError);
            return -1;
        }
    }

    private long Transfer(byte* buffer, long count, long offset, bool write) => Guarded(() =>
    {
        if (offset < 0 || count < 0 || count > int.MaxValue)
            throw new NativeException(write ? "write" : "read", "", Invalid);
        // A device that failed once may do it the next time; what was asked for is the same.
        for (var left = Attempts; ; left--)
        {
            try
            {
                if (!write)
                    return _device.Read(new Span<byte>(buffer, (int)count), offset);
                _device.Write(new ReadOnlySpan<byte>(buffer, (int)count), offset);
                return count;
            }
            catch (NativeException failure) when (failure.Errno == IoError && left > 1)
            {
                // Once more.
            }
        }
    });

    [UnmanagedCallersOnly(CallConvs = [typeof(CallConvCdecl)])]
    private static int Open(nint device, int flags)
    {
        State(device) |= IsOpen | ((flags & AccessMode) == 0 ? IsReadOnly : 0);
        return 0;
    }

    [UnmanagedCallersOnly(CallConvs = [typeof(CallConvCdecl)])]
    private static int Close(nint device)
    {
        var bridge = Of(device);
        var code = (State(device) & IsDirty) == 0 ? 0 : (int)bridge.Guarded(() =>
        {
            bridge._device.Flush();
            return 0;
        });
        State(device) = 0;
        return code;
    }

    [UnmanagedCallersOnly(CallConvs = [typeof(CallConvCdecl)])]
    private static long Seek(nint device, long offset, int whence)
    {
        var bridge = Of(device);
        var target = whence switch { 0 => offset, 1 => bridge._position + offset, 2 => bridge._device.Length + offset, _ => -1 };
        if (target < 0)
        {
            Marshal.SetLastSystemError(Invalid);
            return -1;
        }
        return bridge._position = target;
    }

    [UnmanagedCallersOnly(CallConvs = [typeof(CallConvCdecl)])]
    private static long Read(nint device, byte* buffer, long count)
    {
        var bridge = Of(device);
        var got = bridge.Transfer(buffer, count, bridge._position, write: false);
        bridge._position += Math.Max(got, 0);
        return got;
    }

    [UnmanagedCallersOnly(CallConvs = [typeof(CallConvCdecl)])]
    private static long Write(nint device, byte* buffer, long count)
    {
        var bridge = Of(device);
        State(device) |= IsDirty;
        var got = bridge.Transfer(buffer, count, bridge._position, write: true);
        bridge._position += Math.Max(got, 0);
        return got;
    }

    [UnmanagedCallersOnly(CallConvs = [typeof(CallConvCdecl)])]
    private static long ReadAt(nint device, byte* buffer, long count, long offset) =>
        Of(device).Transfer(buffer, count, offset, write: false);

    [UnmanagedCallersOnly(CallConvs = [typeof(CallConvCdecl)])]
    private static long WriteAt(nint device, byte* buffer, long count, long offset)
    {
        if ((State(device) & IsReadOnly) != 0)
        {
            Marshal.SetLastSystemError(Errno.ReadOnly);
            return -1;
        }
        State(device) |= IsDirty;
        return Of(device).Transfer(buffer, count, offset, write: true);
    }

    [UnmanagedCallersOnly(CallConvs = [typeof(CallConvCdecl)])]
    private static int Sync(nint device)
    {
        var bridge = Of(device);
        if ((State(device) & IsDirty) == 0)
            return 0;
        var code = (int)bridge.Guarded(() =>
        {
            bridge._device.Flush();
            return 0;
        });
        if (code == 0)
            State(device) &= ~IsDirty;
        return code;
    }

    [UnmanagedCallersOnly(CallConvs = [typeof(CallConvCdecl)])]
    private static int Stat(nint device, nint buffer)
    {
        Marshal.SetLastSystemError(NotSupported);
        return -1;
    }

    [UnmanagedCallersOnly(CallConvs = [typeof(CallConvCdecl)])]
    private static int Control(nint device, nuint request, nint argument)
    {
        Marshal.SetLastSystemError(NotSupported);
        return -1;
    }
}
