using Microsoft.Win32.SafeHandles;

namespace Vembar.Native;

/// <summary>An open stream of the library. Whoever uses it closes it; what nobody closed goes back to its volume.</summary>
internal sealed class NtfsDataHandle : SafeHandleZeroOrMinusOneIsInvalid
{
    private readonly NtfsVolumeHandle _volume;

    public NtfsDataHandle(NtfsVolumeHandle volume, nint data) : base(ownsHandle: true)
    {
        _volume = volume;
        SetHandle(data);
    }

    /// <summary>Gives the library's stream to who closes it now.</summary>
    public nint Detach()
    {
        var data = IsClosed ? 0 : handle;
        SetHandleAsInvalid();
        return data;
    }

    protected override bool ReleaseHandle()
    {
        _volume.TakeBackData(handle);
        return true;
    }
}
