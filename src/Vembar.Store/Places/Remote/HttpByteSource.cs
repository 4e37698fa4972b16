using Vembar.Common;

namespace Vembar.Store.Places.Remote;

/// <summary>A file behind a web server, read in parts.</summary>
internal sealed class HttpByteSource : IByteSource
{
    private readonly RangeReader _reader;

    private HttpByteSource(RangeReader reader) => _reader = reader;

    /// <summary>Opens a file: reads its beginning, so that its length is known.</summary>
    /// <exception cref="VembarException">There is none, or it cannot be read.</exception>
    public static IByteSource Open(HttpExchange exchange, string address)
    {
        // What opening an archive looks at first.
        const int Beginning = 4 << 10;
        var reader = new RangeReader(exchange, address, exchange.Check(address, address), null);
        var beginning = new byte[Beginning];
        var count = Blocking.Wait(reader.ReadAsync(beginning, 0, CancellationToken.None));
        if (count < 0)
            throw VembarException.Input("no-such-archive", $"there is no archive '{address}'", Advice.Of("no-such-archive"));
        if (reader.TotalLength < 0)
            throw VembarException.Environment("bad-answer", $"'{address}' cannot be read: its server does not say how long it is",
                "Ask who runs it.");
#pragma warning disable CA2000 // owned by what is returned
        return new BeginningSource(new HttpByteSource(reader), beginning.AsMemory(0, count));
#pragma warning restore CA2000
    }

    public long Length => _reader.TotalLength;

    public bool IsRemote => true;

    public int Read(Span<byte> to, long offset) => Blocking.Read(this, to, offset);

    public async ValueTask<int> ReadAsync(Memory<byte> to, long offset, CancellationToken cancellation = default) =>
        Math.Max(0, await _reader.ReadAsync(to, offset, cancellation).ConfigureAwait(false));

    public ValueTask ReadManyAsync(IReadOnlyList<ByteRange> ranges, CancellationToken cancellation = default) =>
        RangeJoiner.ReadAsync(this, ranges, _reader.TryReadManyAsync, cancellation);

    public void Dispose()
    {
    }
}
