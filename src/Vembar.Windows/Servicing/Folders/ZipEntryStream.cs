using System.IO.Compression;
using Vembar.Common;
using Vembar.Common.Files;

namespace Vembar.Windows.Servicing.Folders;

/// <summary>A file of a zip file. Several may be read side by side: they take turns. What the zip file says of its length holds.</summary>
/// <param name="zip">The zip file, which only one may read at a time.</param>
/// <param name="content">The entry's content.</param>
/// <param name="length">Its length.</param>
/// <param name="explain">Says what is wrong with the zip file.</param>
internal sealed class ZipEntryStream(ZipArchive zip, Stream content, long length, Func<Exception, VembarException?> explain)
    : ReadOnlyStream
{
    private long _read;

    /// <inheritdoc/>
    public override long Length => length;

    /// <inheritdoc/>
    public override int Read(Span<byte> buffer)
    {
        try
        {
            lock (zip)
            {
                var got = content.Read(buffer);
                _read += got;
                return buffer.Length == 0 || (got > 0 ? _read <= length : _read == length) ? got
                    : throw new InvalidDataException("a file in it is not as long as it says");
            }
        }
        catch (Exception failure) when (explain(failure) is { } error)
        {
            throw error;
        }
    }

    /// <inheritdoc/>
    protected override void Dispose(bool disposing)
    {
        if (disposing)
            content.Dispose();
        base.Dispose(disposing);
    }
}
