namespace Vembar.Store.Places.Remote;

/// <summary>A source whose beginning is in memory.</summary>
/// <param name="source">The source; disposed with this.</param>
/// <param name="beginning">What it begins with.</param>
internal sealed class BeginningSource(IByteSource source, ReadOnlyMemory<byte> beginning) : IByteSource
{
    public long Length => source.Length;

    public bool IsRemote => source.IsRemote;

    private bool Holds(long offset, int count) => offset >= 0 && offset + count <= beginning.Length;

    public int Read(Span<byte> to, long offset)
    {
        if (!Holds(offset, to.Length))
            return source.Read(to, offset);
        beginning.Span.Slice((int)offset, to.Length).CopyTo(to);
        return to.Length;
    }

    public ValueTask<int> ReadAsync(Memory<byte> to, long offset, CancellationToken cancellation = default)
    {
        if (!Holds(offset, to.Length))
            return source.ReadAsync(to, offset, cancellation);
        beginning.Slice((int)offset, to.Length).CopyTo(to);
        return ValueTask.FromResult(to.Length);
    }

    public async ValueTask ReadManyAsync(IReadOnlyList<ByteRange> ranges, CancellationToken cancellation = default)
    {
        var rest = new List<ByteRange>();
        foreach (var range in ranges)
        {
            if (Holds(range.Offset, range.Buffer.Length))
                range.Count = await ReadAsync(range.Buffer, range.Offset, cancellation).ConfigureAwait(false);
            else
                rest.Add(range);
        }
        if (rest.Count > 0)
            await source.ReadManyAsync(rest, cancellation).ConfigureAwait(false);
    }

    public void Dispose() => source.Dispose();
}
