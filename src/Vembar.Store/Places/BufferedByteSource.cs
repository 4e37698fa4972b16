namespace Vembar.Store.Places;

/// <summary>
/// A source of which some stretches are in memory: the beginning and the end of a remote archive, which opening it looks at in small
/// steps. What lies wholly in such a stretch costs no request.
/// </summary>
internal sealed class BufferedByteSource : IByteSource
{
    private readonly IByteSource _source;
    private readonly ByteRange[] _buffers;

    private BufferedByteSource(IByteSource source, long length, ByteRange[] buffers)
    {
        _source = source;
        _buffers = buffers;
        Length = length;
    }

    /// <summary>Reads the beginning and the end of a source with one request.</summary>
    /// <param name="source">The source; it is disposed with what is returned.</param>
    /// <param name="start">How much of its beginning, in bytes.</param>
    /// <param name="end">How much of its end, in bytes.</param>
    public static BufferedByteSource Over(IByteSource source, int start, int end)
    {
        var length = source.Length;
        ByteRange[] buffers = length <= start + end ? [new ByteRange(0, new byte[length])]
            : [new ByteRange(0, new byte[start]), new ByteRange(length - end, new byte[end])];
        source.ReadMany(buffers);
        return new BufferedByteSource(source, length, buffers);
    }

    /// <summary>The length when the buffers were filled: what is added afterwards belongs to a state that is not looked at.</summary>
    public long Length { get; }

    public bool IsRemote => _source.IsRemote;

    public int Read(Span<byte> to, long offset)
    {
        if (Buffered(offset, to.Length) is not { } bytes)
            return _source.Read(to, offset);
        bytes.CopyTo(to);
        return bytes.Length;
    }

    public async ValueTask<int> ReadAsync(Memory<byte> to, long offset, CancellationToken cancellation = default)
    {
        if (Buffered(offset, to.Length) is not { } bytes)
            return await _source.ReadAsync(to, offset, cancellation).ConfigureAwait(false);
        bytes.CopyTo(to.Span);
        return bytes.Length;
    }

    public async ValueTask ReadManyAsync(IReadOnlyList<ByteRange> ranges, CancellationToken cancellation = default)
    {
        var rest = new List<ByteRange>();
        foreach (var range in ranges)
        {
            if (Buffered(range.Offset, range.Buffer.Length) is { } bytes)
            {
                bytes.CopyTo(range.Buffer.Span);
                range.Count = bytes.Length;
            }
            else
                rest.Add(range);
        }
        if (rest.Count > 0)
            await _source.ReadManyAsync(rest, cancellation).ConfigureAwait(false);
    }

    public IReadOnlyList<(long Start, long End)> DataRanges(long from, long to) => _source.DataRanges(from, to);

    // Null where some of it is not in memory; cut off at the end of the source.
    private byte[]? Buffered(long offset, int count)
    {
        var end = Math.Min(offset + count, Length);
        foreach (var buffer in _buffers)
        {
            if (offset >= buffer.Offset && end >= offset && end <= buffer.Offset + buffer.Count)
                return buffer.Buffer.Slice((int)(offset - buffer.Offset), (int)(end - offset)).ToArray();
        }
        return null;
    }

    public void Dispose() => _source.Dispose();
}
