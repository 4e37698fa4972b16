using Microsoft.Win32.SafeHandles;
using Vembar.Common.Files;

namespace Vembar.Windows.Servicing.Folders;

/// <summary>A stretch of a file to read. Several may be read side by side.</summary>
/// <param name="file">The file, which stays open.</param>
/// <param name="start">Where it begins.</param>
/// <param name="length">Its length in bytes.</param>
internal sealed class SpoolStream(SafeFileHandle file, long start, long length) : ReadOnlyStream
{
    private long _read;

    /// <inheritdoc/>
    public override long Length => length;

    /// <inheritdoc/>
    public override int Read(Span<byte> buffer)
    {
        var got = RandomAccess.Read(file, buffer[..(int)Math.Min(buffer.Length, length - _read)], start + _read);
        _read += got;
        return got;
    }
}
