using System.Runtime.InteropServices;
using Microsoft.Win32.SafeHandles;

namespace Vembar.Native;

/// <summary>A compression context of libzstd.</summary>
internal sealed partial class ZstdCompressor() : SafeHandleZeroOrMinusOneIsInvalid(ownsHandle: true)
{
    [LibraryImport(Zstd.Library)] private static partial nuint ZSTD_freeCCtx(nint context);

    protected override bool ReleaseHandle() => ZSTD_freeCCtx(handle) == 0;
}
