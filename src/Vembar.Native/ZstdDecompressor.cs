using System.Runtime.InteropServices;
using Microsoft.Win32.SafeHandles;

namespace Vembar.Native;

/// <summary>A decompression context of libzstd.</summary>
internal sealed partial class ZstdDecompressor() : SafeHandleZeroOrMinusOneIsInvalid(ownsHandle: true)
{
    [LibraryImport(Zstd.Library)] private static partial nuint ZSTD_freeDCtx(nint context);

    protected override bool ReleaseHandle() => ZSTD_freeDCtx(handle) == 0;
}
