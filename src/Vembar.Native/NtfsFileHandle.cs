using Microsoft.Win32.SafeHandles;

namespace Vembar.Native;

/// <summary>An open file of the library. Whoever uses it closes it; what nobody closed goes back to its volume.</summary>
internal sealed class NtfsFileHandle : SafeHandleZeroOrMinusOneIsInvalid
{
    private readonly NtfsVolumeHandle _volume;

    public NtfsFileHandle(NtfsVolumeHandle volume, nint file) : base(ownsHandle: true)
    {
        _volume = volume;
        SetHandle(file);
    }

    /// <summary>Gives the library's file to who closes it now.</summary>
    public nint Detach()
    {
        var file = IsClosed ? 0 : handle;
        SetHandleAsInvalid();
        return file;
    }

    protected override bool ReleaseHandle()
    {
        _volume.TakeBackFile(handle);
        return true;
    }
}
