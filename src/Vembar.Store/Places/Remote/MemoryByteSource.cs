namespace Vembar.Store.Places.Remote;

/// <summary>Bytes in memory.</summary>
internal sealed class MemoryByteSource(ReadOnlyMemory<byte> bytes) : IByteSource
{
    public long Length => bytes.Length;

    public int Read(Span<byte> to, long offset)
    {
        var count = (int)Math.Clamp(bytes.Length - offset, 0, to.Length);
        bytes.Span.Slice((int)Math.Min(offset, bytes.Length), count).CopyTo(to);
        return count;
    }

    public void Dispose()
    {
    }
}
