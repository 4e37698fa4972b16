using Vembar.Images.Nodes;
using Vembar.Native;
using Vembar.Volumes.Compaction;

namespace Vembar.Volumes.Sources;

/// <summary>A compacted file of a source, read as its plain content.</summary>
/// <param name="stream">The stream that holds it; closed with this.</param>
/// <param name="content">The content.</param>
/// <param name="displayName">Which file it is, for messages.</param>
internal sealed class CompactedFile(ISourceFile stream, CompactedContent content, string displayName) : ISourceFile
{
    /// <inheritdoc/>
    public long Length => content.Length;

    /// <inheritdoc/>
    public int Read(Span<byte> to, long offset)
    {
        try
        {
            return content.Read(to, offset);
        }
        catch (InvalidDataException damage)
        {
            // As the file system fails for a file that it cannot expand.
            throw new NativeException("read", displayName, Errno.InputOutput, damage);
        }
    }

    /// <inheritdoc/>
    public (long Start, long End) NextData(long offset) => offset < Length ? (offset, Length) : (Length, Length);

    /// <inheritdoc/>
    public bool HasChanged() => stream.HasChanged();

    /// <inheritdoc/>
    public void Dispose() => stream.Dispose();
}
