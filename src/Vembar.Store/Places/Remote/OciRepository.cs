using System.Buffers;
using System.Globalization;
using System.Net;
using System.Net.Http.Headers;
using System.Security.Cryptography;
using System.Text.Json;
using Vembar.Common;

namespace Vembar.Store.Places.Remote;

/// <summary>A repository of a registry that speaks the OCI distribution specification 1.1.</summary>
/// <param name="exchange">Sends the requests.</param>
/// <param name="reference">Which repository, and which tag of it.</param>
internal sealed class OciRepository(HttpExchange exchange, OciReference reference)
{
    // Registries refuse longer manifests.
    private const int LongestManifest = 4 << 20;
    private const int PartLength = 8 << 20;

    private static readonly SearchValues<char> s_hex = SearchValues.Create("0123456789abcdef");

    private readonly Uri _base = exchange.Check(
        $"{(IsPlain(exchange, reference.Host) ? "http" : "https")}://{reference.Host}/v2/{reference.Name}/", reference.Text);
    private string Pull => $"repository:{reference.Name}:pull";
    private string Push => $"repository:{reference.Name}:pull,push";

    /// <summary>What it is called.</summary>
    public OciReference Reference => reference;

    // A registry on this machine is mostly a plain one; whether it is, it says itself.
    private static bool IsPlain(HttpExchange exchange, string host)
    {
        if (!Uri.TryCreate($"https://{host}/", UriKind.Absolute, out var uri) || !(HttpExchange.IsLoopback(uri) || exchange.IsInsecure))
            return false;
        return exchange.SpeaksPlainly(uri);
    }

    /// <summary>The manifest that the tag points at, with its hash; null when there is none.</summary>
    /// <exception cref="VembarException">It cannot be read, or is no archive.</exception>
    public async Task<(OciManifest Manifest, string Digest)?> ReadManifestAsync(CancellationToken cancellation)
    {
        using var response =
            await exchange.SendAsync(reference.Text, () => ManifestRequest(HttpMethod.Get, reference.Tag), cancellation, Pull)
            .ConfigureAwait(false);
        if (response.StatusCode == HttpStatusCode.NotFound)
            return null;
        if (!response.IsSuccessStatusCode)
            throw Nonsense($"it answers {(int)response.StatusCode}");
        byte[] bytes;
        try
        {
            await response.Content.LoadIntoBufferAsync(LongestManifest, cancellation).ConfigureAwait(false);
            bytes = await response.Content.ReadAsByteArrayAsync(cancellation).ConfigureAwait(false);
        }
        catch (HttpRequestException failure) when (failure.HttpRequestError == HttpRequestError.ConfigurationLimitExceeded)
        {
            throw Nonsense($"its manifest is longer than {LongestManifest >> 20} MiB");
        }
        catch (Exception failure) when (failure is HttpRequestException or IOException)
        {
            throw HttpExchange.Unreachable(reference.Text, failure);
        }
        OciManifest? manifest;
        try
        {
            manifest = JsonSerializer.Deserialize(bytes, OciJson.Default.OciManifest);
        }
        catch (JsonException)
        {
            throw Nonsense("its manifest is not JSON");
        }
        if (manifest is null || (manifest.ArtifactType ?? manifest.Config?.MediaType) is not { } type
            || (type != OciManifest.ArchiveType && type != OciManifest.SummaryType) || manifest.Layers is null)
            throw VembarException.Input("not-an-archive", $"'{reference.Text}' is something else than an archive",
                Advice.Of("not-an-archive"));
        var total = 0L;
        foreach (var slice in manifest.Layers)
        {
            if (slice is null || slice.MediaType != OciManifest.SliceType || !IsDigest(slice.Digest) || slice.Size <= 0
                || slice.Size > long.MaxValue - total)
                throw Nonsense("its manifest holds what is no slice of an archive");
            total += slice.Size;
        }
        return (manifest, DigestOf(bytes));
    }

    /// <summary>The hash of the manifest that the tag points at; null when there is none.</summary>
    public async Task<string?> ReadDigestAsync(CancellationToken cancellation)
    {
        using var response =
            await exchange.SendAsync(reference.Text, () => ManifestRequest(HttpMethod.Head, reference.Tag), cancellation, Pull)
            .ConfigureAwait(false);
        if (response.StatusCode == HttpStatusCode.NotFound)
            return null;
        if (!response.IsSuccessStatusCode)
            throw Nonsense($"it answers {(int)response.StatusCode}");
        if (response.Headers.TryGetValues("Docker-Content-Digest", out var values) && values.First() is var digest && IsDigest(digest))
            return digest;
        return (await ReadManifestAsync(cancellation).ConfigureAwait(false))?.Digest;
    }

    private HttpRequestMessage ManifestRequest(HttpMethod method, string tag) => new(method, new Uri(_base, $"manifests/{tag}"))
    {
        Headers = { Accept = { new MediaTypeWithQualityHeaderValue(OciManifest.OwnType) } },
    };

    /// <summary>A reader of a blob's parts.</summary>
    public RangeReader Blob(OciDescriptor blob) => new(exchange, reference.Text, new Uri(_base, $"blobs/{blob.Digest}"), Pull);

    /// <summary>Makes sure that the registry takes something.</summary>
    /// <exception cref="VembarException">It does not.</exception>
    public void EnsureWritable() => Blocking.Wait(TryUploadAsync());

    private async Task TryUploadAsync()
    {
        var location = await BeginUploadAsync(CancellationToken.None).ConfigureAwait(false);
        using var response = await exchange.SendAsync(reference.Text, () => new HttpRequestMessage(HttpMethod.Delete, location),
            CancellationToken.None, Push).ConfigureAwait(false);
    }

    private async Task<Uri> BeginUploadAsync(CancellationToken cancellation)
    {
        var at = new Uri(_base, "blobs/uploads/");
        using var response = await exchange.SendAsync(reference.Text, () => new HttpRequestMessage(HttpMethod.Post, at)
        {
            Content = new ByteArrayContent([]),
        }, cancellation, Push).ConfigureAwait(false);
        if (response.StatusCode != HttpStatusCode.Accepted || response.Headers.Location is not { } location)
            throw Refused("an upload", response);
        return Target(at, location);
    }

    // An upload goes to where the registry says, but not in plain text when it was begun encrypted.
    private Uri Target(Uri from, Uri location)
    {
        var target = new Uri(from, location);
        return target.Scheme == from.Scheme || target.Scheme == Uri.UriSchemeHttps ? target
            : throw VembarException.Environment("bad-redirect", $"'{reference.Text}' wants an upload to an address that is not encrypted",
                "Ask who runs it.");
    }

    /// <summary>Whether the registry holds a blob.</summary>
    public async Task<bool> HoldsAsync(OciDescriptor blob, CancellationToken cancellation)
    {
        using var response = await exchange.SendAsync(reference.Text, () => new HttpRequestMessage(HttpMethod.Head,
            new Uri(_base, $"blobs/{blob.Digest}")), cancellation, Push).ConfigureAwait(false);
        return response.IsSuccessStatusCode && (response.Content.Headers.ContentLength ?? blob.Size) == blob.Size;
    }

    /// <summary>Stores a blob, in parts; one that breaks off is gone on with where the registry says.</summary>
    /// <param name="blob">What it is called.</param>
    /// <param name="source">Its bytes.</param>
    /// <param name="offset">Where they begin.</param>
    /// <param name="sent">Told how many more have gone.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <exception cref="VembarException">The registry does not take it.</exception>
    public async Task WriteBlobAsync(OciDescriptor blob, IByteSource source, long offset, Action<long> sent, CancellationToken cancellation)
    {
        var at = await BeginUploadAsync(cancellation).ConfigureAwait(false);
        var done = 0L;
        var buffer = new byte[Math.Min(PartLength, blob.Size)];
        for (var attempt = 0; done < blob.Size;)
        {
            var count = (int)Math.Min(buffer.Length, blob.Size - done);
            if (await source.ReadAsync(buffer.AsMemory(0, count), offset + done, cancellation).ConfigureAwait(false) < count)
                throw new InvalidOperationException("what is sent is shorter than it was");
            try
            {
                at = await WritePartAsync(at, buffer.AsMemory(0, count), done, cancellation).ConfigureAwait(false);
                done += count;
                sent(count);
                attempt = 0;
            }
            catch (VembarException problem) when (problem.Code is "place-unreachable" or "place-busy" && attempt++ < exchange.Retries)
            {
                await exchange.WaitAsync(HttpExchange.Backoff(attempt), cancellation).ConfigureAwait(false);
                (at, var reached) = await WhereAsync(at, cancellation).ConfigureAwait(false);
                sent(reached - done);
                done = reached;
            }
        }
        var separator = at.Query.Length > 0 ? "&" : "?";
        var end = new Uri($"{at}{separator}digest={Uri.EscapeDataString(blob.Digest)}");
        using var response = await exchange.SendAsync(reference.Text, () => new HttpRequestMessage(HttpMethod.Put, end)
        {
            Content = new ByteArrayContent([]),
        }, cancellation, Push).ConfigureAwait(false);
        if (response.StatusCode != HttpStatusCode.Created && !await HoldsAsync(blob, cancellation).ConfigureAwait(false))
            throw Refused("a part of the archive", response);
    }

    private async Task<Uri> WritePartAsync(Uri at, ReadOnlyMemory<byte> part, long done, CancellationToken cancellation)
    {
        // At the slowest a modem's speed.
        using var limit = exchange.Limit(exchange.Patience + TimeSpan.FromSeconds(part.Length / 4096.0), cancellation);
        try
        {
            // Sent once: what became of it is asked before it is sent again.
            using var response = await exchange.SendAsync(reference.Text, () =>
            {
                var content = new ReadOnlyMemoryContent(part);
                content.Headers.ContentType = new MediaTypeHeaderValue("application/octet-stream");
                content.Headers.ContentLength = part.Length;
                // Without a unit, as that specification has it.
                content.Headers.TryAddWithoutValidation("Content-Range",
                    string.Create(CultureInfo.InvariantCulture, $"{done}-{done + part.Length - 1}"));
                return new HttpRequestMessage(HttpMethod.Patch, at) { Content = content };
            }, limit.Token, Push, again: false).ConfigureAwait(false);
            return response.StatusCode is HttpStatusCode.Accepted or HttpStatusCode.NoContent or HttpStatusCode.Created
                && response.Headers.Location is { } next ? Target(at, next) : throw Refused("a part of the archive", response);
        }
        catch (OperationCanceledException) when (!exchange.IsStopped(cancellation))
        {
            throw HttpExchange.Unreachable(reference.Text, new TimeoutException("it takes nothing any more"));
        }
    }

    // How much of an upload the registry has.
    private async Task<(Uri At, long Done)> WhereAsync(Uri at, CancellationToken cancellation)
    {
        using var response = await exchange.SendAsync(reference.Text, () => new HttpRequestMessage(HttpMethod.Get, at), cancellation, Push)
            .ConfigureAwait(false);
        if (response.StatusCode is HttpStatusCode.NoContent or HttpStatusCode.Accepted or HttpStatusCode.OK)
        {
            var next = response.Headers.Location is { } location ? Target(at, location) : at;
            if (!response.Headers.TryGetValues("Range", out var values))
                return (next, 0);
            var text = values.First();
            text = text[(text.IndexOf('=') + 1)..];
            return long.TryParse(text.AsSpan(text.IndexOf('-') + 1), NumberStyles.None, CultureInfo.InvariantCulture, out var last)
                ? (next, last > 0 ? last + 1 : 0) : (next, 0);
        }
        // It has forgotten the upload.
        return (await BeginUploadAsync(cancellation).ConfigureAwait(false), 0);
    }

    /// <summary>Lets a tag point at a manifest.</summary>
    /// <exception cref="VembarException">The registry does not take it.</exception>
    public async Task WriteManifestAsync(string tag, byte[] manifest, CancellationToken cancellation)
    {
        if (manifest.Length > LongestManifest)
            throw VembarException.Environment("place-refuses", $"'{reference.Text}' has so many slices that no registry takes their list",
                Advice.Of("compact-place"));
        using var response = await exchange.SendAsync(reference.Text, () => new HttpRequestMessage(HttpMethod.Put,
            new Uri(_base, $"manifests/{tag}"))
        {
            Content = new ByteArrayContent(manifest) { Headers = { ContentType = new MediaTypeHeaderValue(OciManifest.OwnType) } },
        }, cancellation, Push).ConfigureAwait(false);
        if (response.StatusCode != HttpStatusCode.Created && response.StatusCode != HttpStatusCode.OK)
            throw Refused("the list of the archive's slices", response);
    }

    private VembarException Refused(string what, HttpResponseMessage response) => VembarException.Environment("place-refuses",
        $"'{reference.Text}' does not take {what}: it answers {(int)response.StatusCode}", "Ask who runs it; nothing was changed there.");

    private VembarException Nonsense(string why) =>
        VembarException.Environment("bad-answer", $"'{reference.Text}' cannot be read: {why}", "Ask who runs it.");

    /// <summary>The name of bytes in a registry.</summary>
    public static string DigestOf(ReadOnlySpan<byte> bytes) => $"sha256:{Convert.ToHexStringLower(SHA256.HashData(bytes))}";

    private static bool IsDigest(string text)
    {
        const string Prefix = "sha256:";
        return text.Length == Prefix.Length + 64 && text.StartsWith(Prefix, StringComparison.Ordinal)
            && text.AsSpan(Prefix.Length).IndexOfAnyExcept(s_hex) < 0;
    }
}
