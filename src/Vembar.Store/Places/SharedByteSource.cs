namespace Vembar.Store.Places;

/// <summary>A source that somebody else disposes of.</summary>
internal sealed class SharedByteSource(IByteSource source) : IByteSource
{
    public long Length => source.Length;

    public bool IsRemote => source.IsRemote;

    public int Read(Span<byte> to, long offset) => source.Read(to, offset);

    public ValueTask<int> ReadAsync(Memory<byte> to, long offset, CancellationToken cancellation = default) =>
        source.ReadAsync(to, offset, cancellation);

    public ValueTask ReadManyAsync(IReadOnlyList<ByteRange> ranges, CancellationToken cancellation = default) =>
        source.ReadManyAsync(ranges, cancellation);

    public IReadOnlyList<(long Start, long End)> DataRanges(long from, long to) => source.DataRanges(from, to);

    public void Dispose()
    {
    }
}
