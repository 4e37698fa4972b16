using Microsoft.Win32.SafeHandles;

namespace Vembar.Native;

/// <summary>An open file or stream of the library. Whoever uses it closes it; what nobody closed goes back to its volume.</summary>
internal sealed class NtfsOpenHandle : SafeHandleZeroOrMinusOneIsInvalid
{
    private readonly Action<nint> _takeBack;

    /// <param name="open">The library's file or stream.</param>
    /// <param name="takeBack">Given it when nobody closed it; by any thread.</param>
    public NtfsOpenHandle(nint open, Action<nint> takeBack) : base(ownsHandle: true)
    {
        _takeBack = takeBack;
        SetHandle(open);
    }

    /// <summary>Gives the library's file or stream to who closes it now; 0 when it was closed.</summary>
    public nint Detach()
    {
        var open = IsClosed ? 0 : handle;
        SetHandleAsInvalid();
        return open;
    }

    protected override bool ReleaseHandle()
    {
        _takeBack(handle);
        return true;
    }
}
