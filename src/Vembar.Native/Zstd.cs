using System.Runtime.InteropServices;

namespace Vembar.Native;

/// <summary>Zstandard (RFC 8878) through libzstd. One compressor or decompressor serves one thread at a time.</summary>
public sealed unsafe partial class Zstd : IDisposable
{
    private const string Library = "libzstd.so.1";
    [LibraryImport(Library)] private static partial nint ZSTD_createCCtx();
    [LibraryImport(Library)] private static partial nuint ZSTD_freeCCtx(nint context);
    [LibraryImport(Library)] private static partial nuint ZSTD_CCtx_setParameter(nint context, int parameter, int value);
    [LibraryImport(Library)] private static partial nuint ZSTD_compress2(nint context, byte* to, nuint room, byte* from, nuint length);
    [LibraryImport(Library)] private static partial nuint ZSTD_compressBound(nuint length);
    [LibraryImport(Library)] private static partial uint ZSTD_isError(nuint code);
    [LibraryImport(Library)] private static partial nint ZSTD_createDCtx();
    [LibraryImport(Library)] private static partial nuint ZSTD_freeDCtx(nint context);
    [LibraryImport(Library)] private static partial nuint ZSTD_decompressDCtx(nint context, byte* to, nuint room, byte* from, nuint length);

    private nint _compressor;
    private nint _decompressor;
    private ZstdSettings? _settings;

    /// <summary>The most bytes that compressing so many can give.</summary>
    public static int Bound(int length) => checked((int)ZSTD_compressBound((nuint)length));

    /// <summary>Compresses into one frame without checksum.</summary>
    /// <param name="from">The plain bytes.</param>
    /// <param name="to">Room for at least <see cref="Bound"/> bytes.</param>
    /// <param name="settings">How hard.</param>
    /// <returns>The number of bytes written.</returns>
    /// <exception cref="InvalidOperationException">The library failed, for instance for want of memory.</exception>
    public int Compress(ReadOnlySpan<byte> from, Span<byte> to, ZstdSettings settings)
    {
        if (_compressor == 0 && (_compressor = ZSTD_createCCtx()) == 0)
            throw new InvalidOperationException("libzstd gave no compressor");
        if (_settings != settings)
            Set(settings);
        fixed (byte* f = from, t = to)
            return (int)Check(ZSTD_compress2(_compressor, t, (nuint)to.Length, f, (nuint)from.Length));
    }

    private void Set(ZstdSettings settings)
    {
        const int CompressionLevel = 100, WindowLog = 101, HashLog = 102, ChainLog = 103, SearchLog = 104, TargetLength = 106,
            PackLiterals = 1002;
        Check(ZSTD_CCtx_setParameter(_compressor, CompressionLevel, settings.Level));
        Check(ZSTD_CCtx_setParameter(_compressor, WindowLog, settings.WindowLog));
        Check(ZSTD_CCtx_setParameter(_compressor, HashLog, settings.HashLog));
        Check(ZSTD_CCtx_setParameter(_compressor, ChainLog, settings.ChainLog));
        Check(ZSTD_CCtx_setParameter(_compressor, SearchLog, settings.SearchLog));
        // With longer steps the library would leave off compressing literals, which costs more than the steps gain. Whether they
        // are is not among its lasting parameters; one that does not know it takes the ordinary steps.
        var packs = settings.Step > 0 && ZSTD_isError(ZSTD_CCtx_setParameter(_compressor, PackLiterals, 1)) == 0;
        if (!packs)
            _ = ZSTD_CCtx_setParameter(_compressor, PackLiterals, 0);
        Check(ZSTD_CCtx_setParameter(_compressor, TargetLength, packs ? settings.Step : 0));
        _settings = settings;
    }

    /// <summary>Expands one frame.</summary>
    /// <returns>False when the frame is damaged or does not give exactly <paramref name="to"/>'s length.</returns>
    public bool TryExpand(ReadOnlySpan<byte> from, Span<byte> to)
    {
        if (_decompressor == 0 && (_decompressor = ZSTD_createDCtx()) == 0)
            throw new InvalidOperationException("libzstd gave no decompressor");
        fixed (byte* f = from, t = to)
        {
            var length = ZSTD_decompressDCtx(_decompressor, t, (nuint)to.Length, f, (nuint)from.Length);
            return ZSTD_isError(length) == 0 && length == (nuint)to.Length;
        }
    }

    private static nuint Check(nuint code) =>
        ZSTD_isError(code) == 0 ? code : throw new InvalidOperationException($"libzstd failed with code {(long)code}");

    /// <inheritdoc/>
    public void Dispose()
    {
        Free();
        GC.SuppressFinalize(this);
    }

    /// <summary>Frees the library's contexts.</summary>
    ~Zstd() => Free();

    private void Free()
    {
        if (_compressor != 0)
            _ = ZSTD_freeCCtx(_compressor);
        if (_decompressor != 0)
            _ = ZSTD_freeDCtx(_decompressor);
        _compressor = _decompressor = 0;
    }
}
