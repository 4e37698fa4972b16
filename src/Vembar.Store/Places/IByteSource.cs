namespace Vembar.Store.Places;

/// <summary>
/// The bytes of an archive, wherever they are: a file, memory, a server. What was once read at a place stays there, apart from what
/// the one who writes does. All members may be used by several threads at once.
/// </summary>
public interface IByteSource : IDisposable
{
    /// <summary>How many bytes there are now.</summary>
    long Length { get; }

    /// <summary>Whether a request costs much more than the bytes that it brings. Of such a source little is read at a time, and much of it
    /// with one request.</summary>
    bool IsRemote => false;

    /// <summary>Reads from a place; returns fewer bytes than asked only at the end.</summary>
    int Read(Span<byte> to, long offset);

    /// <summary>As <see cref="Read"/>, without a thread that waits, where the source can do so.</summary>
    ValueTask<int> ReadAsync(Memory<byte> to, long offset, CancellationToken cancellation = default)
    {
        cancellation.ThrowIfCancellationRequested();
        return ValueTask.FromResult(Read(to.Span, offset));
    }

    /// <summary>Reads from many places with one request, or with as few as the source can.</summary>
    /// <param name="ranges">The places and the room for what is there; told how much of it there was.</param>
    /// <param name="cancellation">Ends the waiting.</param>
    async ValueTask ReadManyAsync(IReadOnlyList<ByteRange> ranges, CancellationToken cancellation = default)
    {
        foreach (var range in ranges)
            range.Count = await ReadAsync(range.Buffer, range.Offset, cancellation).ConfigureAwait(false);
    }

    /// <summary>The stretches of a part that hold data, in order; what is between them is holes. All of it where that cannot be
    /// told.</summary>
    IReadOnlyList<(long Start, long End)> DataRanges(long from, long to) => [(from, to)];
}
