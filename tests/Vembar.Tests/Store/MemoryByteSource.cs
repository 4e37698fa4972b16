using Vembar.Store.Places;

namespace Vembar.Tests;

/// <summary>An archive in memory that counts what is asked of it, as if each request went to another town and back.</summary>
public sealed class MemoryByteSource(byte[] bytes) : IByteSource
{
    private readonly Lock _gate = new();

    /// <summary>How often something was asked; many ranges at once are one request.</summary>
    public int Requests { get; private set; }

    /// <summary>How many ranges were asked for.</summary>
    public int Ranges { get; private set; }

    /// <summary>How many bytes were given.</summary>
    public long Bytes { get; private set; }

    public long Length => bytes.Length;

    public bool IsRemote => true;

    public int Read(Span<byte> to, long offset)
    {
        var part = Part(offset, to.Length);
        part.Span.CopyTo(to);
        Count([part.Length]);
        return part.Length;
    }

    public async ValueTask<int> ReadAsync(Memory<byte> to, long offset, CancellationToken cancellation = default)
    {
        await Task.Yield();
        return Read(to.Span, offset);
    }

    public async ValueTask ReadManyAsync(IReadOnlyList<ByteRange> ranges, CancellationToken cancellation = default)
    {
        await Task.Yield();
        foreach (var range in ranges)
        {
            var part = Part(range.Offset, range.Buffer.Length);
            part.CopyTo(range.Buffer);
            range.Count = part.Length;
        }
        Count([.. ranges.Select(r => r.Count)]);
    }

    private ReadOnlyMemory<byte> Part(long offset, int count)
    {
        var start = (int)Math.Min(offset, bytes.Length);
        return bytes.AsMemory(start, Math.Min(count, bytes.Length - start));
    }

    private void Count(int[] counts)
    {
        lock (_gate)
        {
            Requests++;
            Ranges += counts.Length;
            Bytes += counts.Sum();
        }
    }

    public void Dispose()
    {
    }
}
