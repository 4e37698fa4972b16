using System.Collections.Concurrent;
using System.Net;
using System.Net.Http.Headers;
using System.Net.Security;
using System.Net.Sockets;
using System.Security.Authentication;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using System.Text.Json;
using Vembar.Common;

namespace Vembar.Store.Places.Remote;

/// <summary>
/// Requests to web servers and registries: says who one is, follows redirects that may be followed, tries again what may pass, and tells
/// in our words what went wrong.
/// </summary>
internal sealed class HttpExchange : IDisposable
{
    private const int MostRedirects = 5, ConnectSeconds = 20, MostConnections = 24;
    private static readonly TimeSpan s_longestWait = TimeSpan.FromSeconds(120);
    private static readonly TimeSpan s_firstWait = TimeSpan.FromMilliseconds(400);
    private static readonly TimeSpan s_longestBackoff = TimeSpan.FromSeconds(10);

    private readonly PlaceOptions _options;
    private readonly HttpClient _client;
    private readonly BearerTokens _tokens;

    public HttpExchange(PlaceOptions options)
    {
        _options = options;
        _tokens = new BearerTokens(this, options);
#pragma warning disable CA2000 // disposed of with the client
        _client = new HttpClient(new SocketsHttpHandler
        {
            AllowAutoRedirect = false,
            AutomaticDecompression = DecompressionMethods.None,
            UseCookies = false,
            ConnectTimeout = TimeSpan.FromSeconds(ConnectSeconds),
            MaxConnectionsPerServer = MostConnections,
            PooledConnectionIdleTimeout = TimeSpan.FromSeconds(90),
            SslOptions = new SslClientAuthenticationOptions { RemoteCertificateValidationCallback = Validate(options) },
        })
        {
            Timeout = Timeout.InfiniteTimeSpan,
            DefaultRequestVersion = HttpVersion.Version11,
        };
#pragma warning restore CA2000
        _client.DefaultRequestHeaders.UserAgent.Add(new ProductInfoHeaderValue("vembar", "1"));
    }

    /// <summary>How long nothing may come.</summary>
    public TimeSpan Patience => _options.Patience;

    /// <summary>Whether connections may be unencrypted.</summary>
    public bool IsInsecure => _options.Insecure;

    private readonly ConcurrentDictionary<string, bool> _plain = new();

    /// <summary>Whether a registry answers without encryption; asked once, and told nothing of who one is.</summary>
    /// <param name="host">The registry, as an address.</param>
    public bool SpeaksPlainly(Uri host) => _plain.GetOrAdd(host.Authority, _ =>
    {
        try
        {
            using var request = new HttpRequestMessage(HttpMethod.Get, $"http://{host.Authority}/v2/");
            using var response = Blocking.Wait(TimedAsync(request, CancellationToken.None));
            return response.StatusCode is HttpStatusCode.OK or HttpStatusCode.Unauthorized or HttpStatusCode.TooManyRequests;
        }
        catch (Exception failure) when (failure is HttpRequestException or IOException or TimeoutException)
        {
            return false;
        }
    });

    /// <summary>How often a part that breaks off is asked for again.</summary>
    public int Retries => _options.Retries;

    // The system's store, and the file's certificates beside it.
    private static RemoteCertificateValidationCallback? Validate(PlaceOptions options)
    {
#pragma warning disable CA5359 // that is what was asked for
        if (options.Insecure)
            return (_, _, _, _) => true;
#pragma warning restore CA5359
        if (options.CaFile is null)
            return null;
        var extra = ReadAuthorities(options.CaFile);
        return (_, certificate, _, errors) =>
        {
            if (errors == SslPolicyErrors.None)
                return true;
            if (certificate is not X509Certificate2 leaf || errors != SslPolicyErrors.RemoteCertificateChainErrors)
                return false;
            using var chain = new X509Chain();
            chain.ChainPolicy.RevocationMode = X509RevocationMode.NoCheck;
            chain.ChainPolicy.TrustMode = X509ChainTrustMode.CustomRootTrust;
            chain.ChainPolicy.CustomTrustStore.AddRange(extra);
            return chain.Build(leaf);
        };
    }

    private static X509Certificate2Collection ReadAuthorities(string path)
    {
        try
        {
            var found = new X509Certificate2Collection();
            found.ImportFromPemFile(path);
            return found.Count > 0 ? found
                : throw VembarException.Input("bad-certificate", $"'{path}' holds no certificate", "Name a PEM file.");
        }
        catch (CryptographicException)
        {
            throw VembarException.Input("bad-certificate", $"'{path}' holds no certificates that can be read", "Name a PEM file.");
        }
        catch (Exception failure) when (VembarException.From(failure, "read", path) is { } error)
        {
            throw error;
        }
    }

    /// <summary>Checks an address before anything is sent to it.</summary>
    /// <param name="address">The address.</param>
    /// <param name="displayName">What it is called in messages.</param>
    /// <exception cref="VembarException">It makes no sense, has a password in it, or is not encrypted.</exception>
    public Uri Check(string address, string displayName)
    {
        if (!Uri.TryCreate(address, UriKind.Absolute, out var uri) || uri.Host.Length == 0)
            throw VembarException.Input("bad-address", $"'{displayName}' is not an address", "Write https://HOST/PATH or oci://HOST/NAME.");
        if (uri.UserInfo.Length > 0)
            throw VembarException.Input("secret-in-address", $"an address holds no user or password ('{WithoutSecret(uri)}')",
                Advice.Of("secret-in-address"));
        if (uri.Scheme == Uri.UriSchemeHttp && !IsLoopback(uri) && !_options.Insecure)
            throw VembarException.Input("not-encrypted",
                $"'{displayName}' is not encrypted, so anybody on the way could read and change it",
                Advice.Of("not-encrypted"));
        return uri;
    }

    /// <summary>Whether an address is this machine's own.</summary>
    public static bool IsLoopback(Uri uri) => uri.IsLoopback || (IPAddress.TryParse(uri.Host.Trim('[', ']'), out var ip)
        && IPAddress.IsLoopback(ip));

    private static string WithoutSecret(Uri uri) => new UriBuilder(uri) { UserName = "", Password = "" }.Uri.ToString();

    /// <summary>Sends a request, and again where that may help.</summary>
    /// <param name="place">What the place is called in messages.</param>
    /// <param name="make">Makes the request; called for each try.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <param name="scope">What a registry is asked for, where it wants a token; null for nothing in particular.</param>
    /// <param name="again">Whether it may be sent again after the server was reached.</param>
    /// <returns>The answer, whatever it says, apart from that it cannot now; its content is not read yet.</returns>
    /// <exception cref="VembarException">The place does not answer, or does not let one in.</exception>
    public async Task<HttpResponseMessage> SendAsync(string place, Func<HttpRequestMessage> make, CancellationToken cancellation,
        string? scope = null, bool again = true)
    {
        for (var attempt = 0; ; attempt++)
        {
            try
            {
                var response = await SendOnceAsync(place, make, scope, cancellation).ConfigureAwait(false);
                if (!again || attempt >= _options.Retries || !MayPass(response.StatusCode))
                    return await AnsweredAsync(place, response, cancellation).ConfigureAwait(false);
                var wait = WaitFor(response, attempt);
                response.Dispose();
                await WaitAsync(wait, cancellation).ConfigureAwait(false);
            }
            catch (Exception failure) when (failure is HttpRequestException or IOException or SocketException or TimeoutException)
            {
                // A host that is not there is not there a moment later either, unless it is known to have been.
                var tries = !_options.IsPatient && failure is HttpRequestException
                {
                    HttpRequestError: HttpRequestError.ConnectionError
                    or HttpRequestError.NameResolutionError
                } ? Math.Min(1, _options.Retries) : _options.Retries;
                if (failure is HttpRequestException { InnerException: AuthenticationException } || attempt >= tries || !again)
                    throw Unreachable(place, failure);
                await WaitAsync(Backoff(attempt), cancellation).ConfigureAwait(false);
            }
        }
    }

    private static bool MayPass(HttpStatusCode status) => status is HttpStatusCode.TooManyRequests or HttpStatusCode.BadGateway
        or HttpStatusCode.ServiceUnavailable or HttpStatusCode.GatewayTimeout or HttpStatusCode.RequestTimeout
        or HttpStatusCode.InternalServerError;

    /// <summary>Whether the work was ended, by who waits for it or altogether.</summary>
    public bool IsStopped(CancellationToken cancellation) =>
        cancellation.IsCancellationRequested || _options.Cancellation.IsCancellationRequested;

    /// <summary>Ends with the work, and after a time.</summary>
    public CancellationTokenSource Limit(TimeSpan time, CancellationToken cancellation)
    {
        var limit = CancellationTokenSource.CreateLinkedTokenSource(cancellation, _options.Cancellation);
        limit.CancelAfter(time);
        return limit;
    }

    /// <summary>Waits, unless the work is ended.</summary>
    public async Task WaitAsync(TimeSpan time, CancellationToken cancellation)
    {
        using var limit = Limit(Timeout.InfiniteTimeSpan, cancellation);
        await Task.Delay(time, _options.Clock, limit.Token).ConfigureAwait(false);
    }

    /// <summary>How long to wait before a try.</summary>
    /// <param name="attempt">How many there were, from 0 on.</param>
    public static TimeSpan Backoff(int attempt) =>
        TimeSpan.FromTicks(Math.Min(s_longestBackoff.Ticks, (long)(s_firstWait.Ticks * Math.Pow(2, attempt))));

    private TimeSpan WaitFor(HttpResponseMessage response, int attempt)
    {
        var asked = response.Headers.RetryAfter switch
        {
            { Delta: { } delta } => delta,
            { Date: { } date } => date - _options.Clock.GetUtcNow(),
            _ => Backoff(attempt),
        };
        return asked < TimeSpan.Zero ? TimeSpan.Zero : asked > s_longestWait ? s_longestWait : asked;
    }

    private async Task<HttpResponseMessage> AnsweredAsync(string place, HttpResponseMessage response, CancellationToken cancellation)
    {
        if (response.StatusCode is HttpStatusCode.Unauthorized or HttpStatusCode.Forbidden)
        {
            var denied = response.StatusCode == HttpStatusCode.Unauthorized;
            var told = await ReadProblemAsync(response, cancellation).ConfigureAwait(false);
            response.Dispose();
            throw told ?? VembarException.Environment("access-denied",
                denied ? $"'{place}' does not let you in without a name, or not with this one"
                : $"you may not do that at '{place}'", Advice.Of("log-in", ("place", place)));
        }
        if (response.StatusCode == HttpStatusCode.TooManyRequests || (int)response.StatusCode >= 500)
        {
            var status = (int)response.StatusCode;
            var told = await ReadProblemAsync(response, cancellation).ConfigureAwait(false);
            response.Dispose();
            throw told ?? VembarException.Environment("place-busy", $"'{place}' cannot do it now: it answers {status}", "Try again later.");
        }
        return response;
    }

    /// <summary>What a server says of what went wrong, where it says it as RFC 9457 has it.</summary>
    /// <param name="response">Its answer.</param>
    /// <param name="cancellation">Ends the reading.</param>
    /// <returns>The error; null where it says nothing that makes sense.</returns>
    public async Task<VembarException?> ReadProblemAsync(HttpResponseMessage response, CancellationToken cancellation)
    {
        const int Longest = 1 << 20;
        if (response.Content.Headers.ContentType?.MediaType != HttpProblem.MediaType)
            return null;
        try
        {
            using var limit = Limit(Patience, cancellation);
            await response.Content.LoadIntoBufferAsync(Longest, limit.Token).ConfigureAwait(false);
            var bytes = await response.Content.ReadAsByteArrayAsync(limit.Token).ConfigureAwait(false);
            return JsonSerializer.Deserialize(bytes, OciJson.Default.HttpProblem)?.ToError((int)response.StatusCode);
        }
        catch (Exception failure) when (failure is JsonException or HttpRequestException or IOException
            || failure is OperationCanceledException && !IsStopped(cancellation))
        {
            return null;
        }
    }

    private async Task<HttpResponseMessage> SendOnceAsync(string place, Func<HttpRequestMessage> make, string? scope,
        CancellationToken cancellation)
    {
        var authorization = default(AuthenticationHeaderValue);
        var challenged = false;
        Uri? redirected = null;
        for (var redirects = 0; ;)
        {
            using var request = make();
            var first = request.RequestUri!;
            if (redirected is not null)
                request.RequestUri = redirected;
            // Who one is concerns the place that was named, and nobody whom it sends one on to.
            if (IsSame(request.RequestUri!, first))
                request.Headers.Authorization = authorization ?? await _tokens.KnownAsync(first, scope).ConfigureAwait(false);
            var response = await TimedAsync(request, cancellation).ConfigureAwait(false);
            if (response.StatusCode == HttpStatusCode.Unauthorized && !challenged && redirected is null)
            {
                challenged = true;
                authorization = await _tokens.AnswerAsync(place, first, response.Headers.WwwAuthenticate, scope, cancellation)
                    .ConfigureAwait(false);
                if (authorization is not null)
                {
                    response.Dispose();
                    continue;
                }
            }
            if (response.StatusCode is not (HttpStatusCode.MovedPermanently or HttpStatusCode.Found or HttpStatusCode.SeeOther
                or HttpStatusCode.TemporaryRedirect or HttpStatusCode.PermanentRedirect) || response.Headers.Location is not { } location)
                return response;
            var target = new Uri(request.RequestUri!, location);
            response.Dispose();
            if (++redirects > MostRedirects)
                throw VembarException.Environment("bad-redirect", $"'{place}' sends one from address to address without end",
                    "Ask who runs it.");
            if (target.Scheme is not ("https" or "http") || (target.Scheme == Uri.UriSchemeHttp && first.Scheme == Uri.UriSchemeHttps
                && !_options.Insecure))
                throw VembarException.Environment("bad-redirect",
                    $"'{place}' sends one on to '{target.GetLeftPart(UriPartial.Authority)}', "
                    + "which is not encrypted", "It is not followed. Ask who runs it.");
            redirected = target;
        }
    }

    private static bool IsSame(Uri a, Uri b) => a.Scheme == b.Scheme && a.Host == b.Host && a.Port == b.Port;

    /// <summary>Sends a request and waits for the head of its answer, for as long as one has patience.</summary>
    public async Task<HttpResponseMessage> TimedAsync(HttpRequestMessage request, CancellationToken cancellation)
    {
        // What is sent takes its time; each part of it is watched by whoever sends it.
        using var limit = Limit(request.Content is null ? _options.Patience : Timeout.InfiniteTimeSpan, cancellation);
        try
        {
            return await _client.SendAsync(request, HttpCompletionOption.ResponseHeadersRead, limit.Token).ConfigureAwait(false);
        }
        catch (OperationCanceledException) when (!IsStopped(cancellation))
        {
            throw new TimeoutException($"no answer within {_options.Patience.TotalSeconds:0} s");
        }
    }

    /// <summary>Says in our words why a place cannot be reached.</summary>
    public static VembarException Unreachable(string place, Exception failure)
    {
        var inner = failure.InnerException;
        if (inner is AuthenticationException)
        {
            var why = inner.Message.Contains("NotTimeValid", StringComparison.Ordinal) ? "its certificate is not valid at this time"
                : inner.Message.Contains("NameMismatch", StringComparison.Ordinal) ? "its certificate is of another host"
                : "its certificate is not one that is trusted here";
            return VembarException.Environment("not-trusted", $"'{place}' is not spoken to: {why}", Advice.Of("trust-authority"));
        }
        var reason = failure switch
        {
            TimeoutException => failure.Message,
            HttpRequestException { HttpRequestError: HttpRequestError.NameResolutionError } => "there is no such host",
            HttpRequestException { HttpRequestError: HttpRequestError.ConnectionError } => "nobody answers there",
            _ => "the connection broke off",
        };
        return VembarException.Environment("place-unreachable", $"'{place}' cannot be reached: {reason}",
            "Check the address and the network, and try again; what was done before is not lost.");
    }

    public void Dispose()
    {
        _tokens.Dispose();
        _client.Dispose();
    }
}
