using System.Runtime.InteropServices;
using Microsoft.Win32.SafeHandles;

namespace Vembar.Native;

/// <summary>A device of the library; once a volume is open on it, it goes with that.</summary>
internal sealed partial class NtfsDeviceHandle : SafeHandleZeroOrMinusOneIsInvalid
{
    [LibraryImport(NtfsVolume.Library)] private static partial int ntfs_device_free(nint device);

    public NtfsDeviceHandle(nint device) : base(ownsHandle: true) => SetHandle(device);

    protected override bool ReleaseHandle() => ntfs_device_free(handle) == 0;
}
