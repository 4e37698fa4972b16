using System.Net;
using System.Net.Http.Headers;
using System.Text.Json;
using System.Text.Json.Serialization.Metadata;
using Vembar.Common;
using Vembar.Store.Hashing;

namespace Vembar.Store.Places.Remote;

/// <summary>An archive at a station, as a writer has it: what is added is sent in parts, and counts when all of it is there and the archive
/// is still as it was. docs/places.md.</summary>
internal sealed class TailArchiveFile : SpooledArchiveFile
{
    private const int AtOnce = 3;

    private readonly HttpExchange _exchange;
    private readonly PlaceOptions _options;
    private readonly string _address;
    private readonly Uri _uri;
    private readonly string _state;

    private TailArchiveFile(HttpExchange exchange, PlaceOptions options, string address, string state, IByteSource there)
        : base(address, there, options)
    {
        (_exchange, _options, _address, _state) = (exchange, options, address, state);
        _uri = exchange.Check(address, address);
    }

    /// <summary>Opens an archive to add to it.</summary>
    /// <returns>Null where there is none.</returns>
    /// <exception cref="VembarException">It is behind a web server that takes nothing.</exception>
    public static TailArchiveFile? Open(HttpExchange exchange, PlaceOptions options, string address)
    {
        if (Look(exchange, address) is not { } state)
            return null;
#pragma warning disable CA2000 // owned by what is returned
        return new TailArchiveFile(exchange, options, address, state, HttpByteSource.Open(exchange, address));
#pragma warning restore CA2000
    }

    /// <summary>Begins an archive where there is none.</summary>
    /// <exception cref="VembarException">There is one, or nothing is taken there.</exception>
    public static TailArchiveFile Create(HttpExchange exchange, PlaceOptions options, string address) =>
        Look(exchange, address) is not null ? throw VembarException.Environment("place-changed",
            $"'{address}' was made by somebody else meanwhile", "Run it again.")
#pragma warning disable CA2000 // owned by what is returned
            : new TailArchiveFile(exchange, options, address, "", new MemoryByteSource(ReadOnlyMemory<byte>.Empty));
#pragma warning restore CA2000

    /// <summary>The state that an archive is in; null where there is none.</summary>
    /// <exception cref="VembarException">It takes nothing from whoever asks.</exception>
    public static string? Look(HttpExchange exchange, string address)
    {
        var uri = exchange.Check(address, address);
        using var response = Blocking.Wait(exchange.SendAsync(address, () => new HttpRequestMessage(HttpMethod.Head, uri),
            CancellationToken.None));
        if (!response.Headers.Contains(TailOffer.Header))
        {
            throw response.StatusCode is HttpStatusCode.NotFound
                ? VembarException.Input("no-such-archive", $"there is no archive '{address}', and none can be made there",
                Advice.Of("no-such-archive"))
                : VembarException.Input("read-only-place", $"'{address}' can be read and not written, by you at least",
                Advice.Of("read-only-place"));
        }
        return response.StatusCode == HttpStatusCode.NotFound ? null : response.Headers.ETag?.Tag.Trim('"') ?? "";
    }

    /// <inheritdoc/>
    protected override bool IsUnchanged() => (Look(_exchange, _address) ?? "") == _state;

    /// <inheritdoc/>
    protected override Task PublishAsync(IByteSource tail, long length, PublishedState state) =>
        SendAsync(tail, length, replaces: false);

    /// <inheritdoc/>
    protected override Task ReplaceAsync(IByteSource file, PublishedState state) => SendAsync(file, state.Length, replaces: true);

    private async Task SendAsync(IByteSource source, long length, bool replaces)
    {
        var cancellation = _options.Cancellation;
        var offer = new TailOffer(_state, replaces, length, await HashAsync(source, length, cancellation).ConfigureAwait(false));
        const int MostTimes = 3;
        for (var attempt = 1; ; attempt++)
        {
            var answer = await AskAsync(HttpMethod.Post, "", () => Json(offer), TailJson.Default.TailAnswer, cancellation)
                .ConfigureAwait(false);
            var sent = length - answer.Missing.Sum(p => (long)offer.LengthOf(p));
            _options.Sent?.Invoke(sent, length);
            await Parallel.ForEachAsync(answer.Missing, new ParallelOptions
            {
                MaxDegreeOfParallelism = AtOnce,
                CancellationToken = cancellation,
            }, async (part, stop) =>
            {
                var bytes = new byte[offer.LengthOf(part)];
                await source.ReadAsync(bytes, (long)part * TailOffer.PartLength, stop).ConfigureAwait(false);
                await AskAsync(HttpMethod.Put, $"/{answer.Id}/{part}", () => new ByteArrayContent(bytes), TailJson.Default.TailAnswer, stop)
                    .ConfigureAwait(false);
                _options.Sent?.Invoke(Interlocked.Add(ref sent, bytes.Length), length);
            }).ConfigureAwait(false);
            try
            {
                await AskAsync(HttpMethod.Post, $"/{answer.Id}", () => new ByteArrayContent([]), TailJson.Default.TailTaken, cancellation)
                    .ConfigureAwait(false);
                return;
            }
            catch (VembarException problem) when (problem.Code == "tail-lost" && attempt < MostTimes)
            {
                // The station lost some of it: it is offered again.
            }
        }
    }

    private static ByteArrayContent Json(TailOffer offer)
    {
        var content = new ByteArrayContent(JsonSerializer.SerializeToUtf8Bytes(offer, TailJson.Default.TailOffer));
        content.Headers.ContentType = new MediaTypeHeaderValue("application/json");
        return content;
    }

    private async Task<T> AskAsync<T>(HttpMethod method, string path, Func<HttpContent> content, JsonTypeInfo<T> type,
        CancellationToken cancellation)
    {
        var at = new Uri($"{_uri.AbsoluteUri.TrimEnd('/')}/tails{path}");
        using var response = await _exchange.SendAsync(_address, () => new HttpRequestMessage(method, at)
        {
            Content = content(),
        }, cancellation)
            .ConfigureAwait(false);
        if (!response.IsSuccessStatusCode)
        {
            var told = await _exchange.ReadProblemAsync(response, cancellation).ConfigureAwait(false);
            throw told is { Code: "place-changed" } ? Moved() : told ?? VembarException.Environment("bad-answer",
                $"'{_address}' cannot be written: it answers {(int)response.StatusCode}", "Ask who runs it.");
        }
        try
        {
            using var limit = _exchange.Limit(_exchange.Patience, cancellation);
            var bytes = await response.Content.ReadAsByteArrayAsync(limit.Token).ConfigureAwait(false);
            return JsonSerializer.Deserialize(bytes, type) ?? throw new JsonException();
        }
        catch (JsonException)
        {
            throw VembarException.Environment("bad-answer", $"'{_address}' answers what makes no sense", "Ask who runs it.");
        }
        catch (Exception failure) when (failure is HttpRequestException or IOException)
        {
            throw HttpExchange.Unreachable(_address, failure);
        }
    }

    private static async Task<IReadOnlyList<string>> HashAsync(IByteSource source, long length, CancellationToken cancellation)
    {
        var parts = new List<string>();
        var buffer = new byte[(int)Math.Min(TailOffer.PartLength, length)];
        for (var at = 0L; at < length; at += buffer.Length)
        {
            var count = (int)Math.Min(buffer.Length, length - at);
            if (await source.ReadAsync(buffer.AsMemory(0, count), at, cancellation).ConfigureAwait(false) < count)
                throw new InvalidOperationException("what is published is shorter than it was");
            parts.Add(Blake3.Hash(buffer.AsSpan(0, count)).ToString());
        }
        return parts;
    }
}
