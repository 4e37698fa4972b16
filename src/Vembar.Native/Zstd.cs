using System.Runtime.InteropServices;

namespace Vembar.Native;

/// <summary>Zstandard (RFC 8878) through libzstd. One compressor or decompressor serves one thread at a time.</summary>
public sealed unsafe partial class Zstd : IDisposable
{
    internal const string Library = "libzstd.so.1";
    [LibraryImport(Library)] private static partial ZstdCompressor ZSTD_createCCtx();
    [LibraryImport(Library)] private static partial nuint ZSTD_CCtx_setParameter(ZstdCompressor context, int parameter, int value);
    [LibraryImport(Library)]
    private static partial nuint ZSTD_compress2(
        ZstdCompressor context, byte* to, nuint room, byte* from, nuint length);
    [LibraryImport(Library)] private static partial nuint ZSTD_compressBound(nuint length);
    [LibraryImport(Library)] private static partial uint ZSTD_isError(nuint code);
    [LibraryImport(Library)] private static partial ZstdDecompressor ZSTD_createDCtx();
    [LibraryImport(Library)]
    private static partial nuint ZSTD_decompressDCtx(
        ZstdDecompressor context, byte* to, nuint room, byte* from, nuint length);

    private ZstdCompressor? _compressor;
    private ZstdDecompressor? _decompressor;
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
        _compressor ??= Given(ZSTD_createCCtx());
        if (_settings != settings)
            Set(_compressor, settings);
        fixed (byte* f = from, t = to)
            return (int)Check(ZSTD_compress2(_compressor, t, (nuint)to.Length, f, (nuint)from.Length));
    }

    private static T Given<T>(T context) where T : SafeHandle =>
        context.IsInvalid ? throw new InvalidOperationException("libzstd gave no context") : context;

    private void Set(ZstdCompressor compressor, ZstdSettings settings)
    {
        const int CompressionLevel = 100, WindowLog = 101, HashLog = 102, ChainLog = 103, SearchLog = 104, TargetLength = 106,
            Workers = 400, PackLiterals = 1002;
        Check(ZSTD_CCtx_setParameter(compressor, CompressionLevel, settings.Level));
        Check(ZSTD_CCtx_setParameter(compressor, WindowLog, settings.WindowLog));
        Check(ZSTD_CCtx_setParameter(compressor, HashLog, settings.HashLog));
        Check(ZSTD_CCtx_setParameter(compressor, ChainLog, settings.ChainLog));
        Check(ZSTD_CCtx_setParameter(compressor, SearchLog, settings.SearchLog));
        // A library that was built without threads does not take it, and compresses all the same.
        _ = ZSTD_CCtx_setParameter(compressor, Workers, settings.Workers);
        // With longer steps the library would leave off compressing literals, which costs more than the steps gain. Whether they
        // are is not among its lasting parameters; one that does not know it takes the ordinary steps.
        var packs = settings.Step > 0 && ZSTD_isError(ZSTD_CCtx_setParameter(compressor, PackLiterals, 1)) == 0;
        if (!packs)
            _ = ZSTD_CCtx_setParameter(compressor, PackLiterals, 0);
        Check(ZSTD_CCtx_setParameter(compressor, TargetLength, packs ? settings.Step : 0));
        _settings = settings;
    }

    /// <summary>Expands one frame.</summary>
    /// <returns>False when the frame is damaged or does not give exactly <paramref name="to"/>'s length.</returns>
    public bool TryExpand(ReadOnlySpan<byte> from, Span<byte> to)
    {
        _decompressor ??= Given(ZSTD_createDCtx());
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
        _compressor?.Dispose();
        _decompressor?.Dispose();
        (_compressor, _decompressor) = (null, null);
    }
}
