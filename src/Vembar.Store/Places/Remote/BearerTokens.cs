using System.Collections.Concurrent;
using System.Globalization;
using System.Net.Http.Headers;
using System.Text;
using System.Text.Json;
using System.Text.RegularExpressions;
using Vembar.Common;

namespace Vembar.Store.Places.Remote;

/// <summary>
/// Says who one is: by name and password, or by a token that a server wants fetched elsewhere. Source: RFC 7617 (basic), RFC 6750
/// (bearer) and the registries' token specification.
/// </summary>
/// <param name="exchange">Sends requests for tokens.</param>
/// <param name="options">Knows who one is.</param>
internal sealed partial class BearerTokens(HttpExchange exchange, PlaceOptions options) : IDisposable
{
    private const int LongestAnswer = 1 << 20;
    private static readonly TimeSpan s_usualLife = TimeSpan.FromSeconds(60);
    private readonly ConcurrentDictionary<string, (AuthenticationHeaderValue Header, DateTimeOffset Until)> _known = new();
    private readonly SemaphoreSlim _gate = new(1);

    private static string Key(Uri at, string? scope) => $"{at.Scheme}://{at.Authority} {scope}";

    /// <summary>What a server wanted before, or what it may be told at once; null for nothing.</summary>
    public Task<AuthenticationHeaderValue?> KnownAsync(Uri at, string? scope)
    {
        if (_known.TryGetValue(Key(at, scope), out var known) && known.Until > options.Clock.GetUtcNow())
            return Task.FromResult<AuthenticationHeaderValue?>(known.Header);
        // A token of one's own is what a server is to be told; a password is for a registry's token server, so it waits to be asked.
        return Task.FromResult(options.Credentials(at) is { IsToken: true } own ? new AuthenticationHeaderValue("Bearer", own.Secret)
            : null);
    }

    /// <summary>What to answer when a server asks who one is; null when there is nothing to say.</summary>
    /// <exception cref="VembarException">The token server cannot be reached, or makes no sense.</exception>
    public async Task<AuthenticationHeaderValue?> AnswerAsync(string place, Uri at,
        HttpHeaderValueCollection<AuthenticationHeaderValue> asked,
        string? scope, CancellationToken cancellation)
    {
        var credentials = options.Credentials(at);
        if (asked.FirstOrDefault(a => a.Scheme.Equals("Bearer", StringComparison.OrdinalIgnoreCase))?.Parameter is { } parameters
            && Parse(parameters) is var said && said.TryGetValue("realm", out var realm))
        {
            if (credentials is { IsToken: true })
                return null;
            await _gate.WaitAsync(cancellation).ConfigureAwait(false);
            try
            {
                var wanted = scope ?? said.GetValueOrDefault("scope");
                if (_known.TryGetValue(Key(at, scope), out var known) && known.Until > options.Clock.GetUtcNow())
                    return known.Header;
                var (header, life) =
                    await FetchAsync(place, at, realm, said.GetValueOrDefault("service"), wanted, credentials, cancellation)
                    .ConfigureAwait(false);
                _known[Key(at, scope)] = (header, options.Clock.GetUtcNow() + life * 0.9);
                return header;
            }
            finally
            {
                _gate.Release();
            }
        }
        if (credentials is null || credentials.IsToken)
            return null;
        var basic = Basic(credentials);
        _known[Key(at, scope)] = (basic, DateTimeOffset.MaxValue);
        return basic;
    }

    private static AuthenticationHeaderValue Basic(PlaceCredentials credentials) => new("Basic",
        Convert.ToBase64String(Encoding.UTF8.GetBytes($"{credentials.User}:{credentials.Secret}")));

    private async Task<(AuthenticationHeaderValue Header, TimeSpan Life)> FetchAsync(string place, Uri at, string realm, string? service,
        string? scope, PlaceCredentials? credentials, CancellationToken cancellation)
    {
        var where = exchange.Check(realm, realm);
        // A password that was given for an encrypted place goes to no other.
        if (at.Scheme == Uri.UriSchemeHttps && where.Scheme != Uri.UriSchemeHttps && !options.Insecure)
            throw VembarException.Environment("bad-redirect",
                $"'{place}' wants a token of '{where.GetLeftPart(UriPartial.Authority)}', which is not encrypted", "Ask who runs it.");
        var query = new StringBuilder(where.Query.TrimStart('?'));
        foreach (var (name, value) in ((string, string?)[])[("service", service), ("scope", scope)])
        {
            if (value is not null)
                query.Append(CultureInfo.InvariantCulture, $"{(query.Length > 0 ? "&" : "")}{name}={Uri.EscapeDataString(value)}");
        }
        using var request = new HttpRequestMessage(HttpMethod.Get, new UriBuilder(where) { Query = query.ToString() }.Uri);
        if (credentials is not null)
            request.Headers.Authorization = Basic(credentials);
        try
        {
            using var response = await exchange.TimedAsync(request, cancellation).ConfigureAwait(false);
            if (!response.IsSuccessStatusCode)
                throw VembarException.Environment("access-denied",
                    $"'{place}' does not let you in: its token server answers {(int)response.StatusCode}",
                    Advice.Of("log-in", ("place", place)));
            await response.Content.LoadIntoBufferAsync(LongestAnswer, cancellation).ConfigureAwait(false);
            var answer = JsonSerializer.Deserialize(await response.Content.ReadAsByteArrayAsync(cancellation).ConfigureAwait(false),
                OciJson.Default.TokenAnswer);
            var token = answer?.Token ?? answer?.AccessToken;
            if (string.IsNullOrEmpty(token) || token.Any(char.IsControl))
                throw new JsonException("there is no token in it");
            var life = answer!.ExpiresIn is > 0 and <= 1_000_000 and var seconds ? TimeSpan.FromSeconds(seconds) : s_usualLife;
            return (new AuthenticationHeaderValue("Bearer", token), life);
        }
        catch (JsonException)
        {
            throw VembarException.Environment("bad-answer", $"the token server of '{place}' answers what makes no sense",
                "Ask who runs it.");
        }
        catch (Exception failure) when (failure is HttpRequestException or IOException or TimeoutException)
        {
            throw HttpExchange.Unreachable(where.GetLeftPart(UriPartial.Authority), failure);
        }
    }

    private static Dictionary<string, string> Parse(string parameters)
    {
        var found = new Dictionary<string, string>(StringComparer.OrdinalIgnoreCase);
        foreach (Match match in Parameter().Matches(parameters))
            found.TryAdd(match.Groups[1].Value, match.Groups[2].Success ? match.Groups[2].Value : match.Groups[3].Value);
        return found;
    }

    [GeneratedRegex("""([A-Za-z_]+)=(?:"([^"]*)"|([^,\s]+))""")]
    private static partial Regex Parameter();

    public void Dispose() => _gate.Dispose();
}
