using System.Net;
using System.Net.Http.Headers;
using System.Net.Sockets;
using Vembar.Common;

namespace Vembar.Store.Places.Remote;

/// <summary>Reads parts of something behind a web server (RFC 9110, 14). A part that breaks off is gone on with where it was.</summary>
/// <param name="exchange">Sends the requests.</param>
/// <param name="place">What it is called in messages.</param>
/// <param name="address">Where it is.</param>
/// <param name="scope">What a registry is asked for; null for nothing in particular.</param>
internal sealed class RangeReader(HttpExchange exchange, string place, Uri address, string? scope)
{
    /// <summary>How long it is altogether, as the last answer said; negative before there was one.</summary>
    public long TotalLength { get; private set; } = -1;

    /// <summary>Reads from a place.</summary>
    /// <param name="to">Room for what is read.</param>
    /// <param name="offset">The place.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <returns>How many bytes there were; fewer than there is room for only at the end. Negative when there is nothing of that
    /// name.</returns>
    /// <exception cref="VembarException">It cannot be read.</exception>
    public async Task<int> ReadAsync(Memory<byte> to, long offset, CancellationToken cancellation)
    {
        var done = 0;
        // As long as something comes, it is gone on with.
        for (int failures = 0, before = 0; done < to.Length;)
        {
            if (TotalLength >= 0 && offset + done >= TotalLength)
                break;
            try
            {
                var count = await ReadPartAsync(to[done..], offset + done, got => done += got, cancellation).ConfigureAwait(false);
                if (count < 0)
                    return -1;
                if (count == 0)
                    break;
            }
            catch (Exception failure) when (failure is HttpRequestException or IOException or SocketException or TimeoutException)
            {
                failures = done > before ? 0 : failures + 1;
                before = done;
                if (failures > exchange.Retries)
                    throw HttpExchange.Unreachable(place, failure);
                await exchange.WaitAsync(HttpExchange.Backoff(failures), cancellation).ConfigureAwait(false);
            }
        }
        return done;
    }

    // Servers may answer with one part, or with all of it; then each part is asked for by itself from then on.
    private volatile bool _answersOne;

    /// <summary>Reads from several places with one request, where the server can.</summary>
    /// <returns>False when it cannot, or did not: then each has to be read by itself.</returns>
    /// <exception cref="VembarException">The place does not answer, or does not let one in.</exception>
    public async Task<bool> TryReadManyAsync(IReadOnlyList<ByteRange> ranges, CancellationToken cancellation)
    {
        const long Longest = 16 << 20;
        if (_answersOne || TotalLength < 0 || ranges.Any(r => r.Offset + r.Buffer.Length > TotalLength)
            || ranges.Sum(r => (long)r.Buffer.Length) > Longest)
            return false;
        try
        {
            using var response = await exchange.SendAsync(place, () =>
            {
                var header = new RangeHeaderValue();
                foreach (var range in ranges)
                    header.Ranges.Add(new RangeItemHeaderValue(range.Offset, range.Offset + range.Buffer.Length - 1));
                return new HttpRequestMessage(HttpMethod.Get, address) { Headers = { Range = header } };
            }, cancellation, scope).ConfigureAwait(false);
            if (response.StatusCode != HttpStatusCode.PartialContent
                || response.Content.Headers.ContentType is not { MediaType: "multipart/byteranges" } type
                || type.Parameters.FirstOrDefault(p => p.Name == "boundary")?.Value?.Trim('"') is not { Length: > 0 } boundary)
            {
                _answersOne = true;
                return false;
            }
            using var limit = exchange.Limit(exchange.Patience, cancellation);
            await response.Content.LoadIntoBufferAsync(Longest * 2, limit.Token).ConfigureAwait(false);
            var body = await response.Content.ReadAsByteArrayAsync(limit.Token).ConfigureAwait(false);
            return RangeParts.TryFill(body, boundary, ranges);
        }
        catch (Exception failure) when (failure is HttpRequestException or IOException or SocketException
            || failure is OperationCanceledException && !exchange.IsStopped(cancellation))
        {
            return false;
        }
    }

    private async Task<int> ReadPartAsync(Memory<byte> to, long offset, Action<int> got, CancellationToken cancellation)
    {
        using var response = await exchange.SendAsync(place, () => new HttpRequestMessage(HttpMethod.Get, address)
        {
            Headers = { Range = new RangeHeaderValue(offset, offset + to.Length - 1) },
        }, cancellation, scope).ConfigureAwait(false);
        var length = LengthOf(response, offset, to.Length);
        if (length <= 0)
            return length;
        using var body = await response.Content.ReadAsStreamAsync(cancellation).ConfigureAwait(false);
        var read = 0;
        while (read < length)
        {
            using var limit = exchange.Limit(exchange.Patience, cancellation);
            int count;
            try
            {
                count = await body.ReadAsync(to[read..length], limit.Token).ConfigureAwait(false);
            }
            catch (OperationCanceledException) when (!exchange.IsStopped(cancellation))
            {
                throw new TimeoutException($"nothing came for {exchange.Patience.TotalSeconds:0} s");
            }
            if (count == 0)
                throw new IOException("the answer was cut off");
            read += count;
            got(count);
        }
        return read;
    }

    // How many bytes of it are to be read; 0 at the end, negative when there is nothing of that name.
    private int LengthOf(HttpResponseMessage response, long offset, int wanted)
    {
        switch (response.StatusCode)
        {
            case HttpStatusCode.PartialContent:
                if (response.Content.Headers.ContentRange is not { Unit: "bytes", From: { } from, To: { } to } range || from != offset
                    || to < from || to - from >= wanted || range.Length is { } total && total <= to)
                    throw Nonsense("it answers with another part than it was asked for");
                if (range.Length is { } length)
                    Grew(length);
                return (int)(to - from + 1);
            case HttpStatusCode.OK when offset == 0 && response.Content.Headers.ContentLength is { } whole && whole <= wanted:
                Grew(whole);
                return (int)whole;
            case HttpStatusCode.OK:
                throw VembarException.Input("no-ranges", $"'{place}' cannot be read in parts: its server answers with the whole of it",
                    Advice.Of("no-ranges"));
            case HttpStatusCode.RequestedRangeNotSatisfiable:
                if (response.Content.Headers.ContentRange?.Length is { } end)
                    Grew(end);
                return 0;
            case HttpStatusCode.NotFound or HttpStatusCode.Gone:
                return -1;
            default:
                throw Nonsense($"it answers {(int)response.StatusCode}");
        }
    }

    private VembarException Nonsense(string why) =>
        VembarException.Environment("bad-answer", $"'{place}' cannot be read: {why}", "Ask who runs it.");

    private void Grew(long length)
    {
        if (length < TotalLength)
            throw VembarException.Environment("place-changed", $"'{place}' was replaced by a shorter file while it was read",
                "Run it again.");
        TotalLength = length;
    }
}
