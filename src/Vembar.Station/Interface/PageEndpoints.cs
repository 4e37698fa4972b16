using System.Net.ServerSentEvents;
using System.Reflection;
using System.Runtime.CompilerServices;
using Vembar.Operations.Stations.Contract;
using Vembar.Station.Machines;
using Vembar.Station.People;
using Vembar.Station.Problems;

namespace Vembar.Station.Interface;

/// <summary>The web page: its files, signing in to it, and what it is told of as it happens.</summary>
internal static class PageEndpoints
{
    // Nothing from elsewhere, nothing inline, in nobody's frame.
    private const string Policy = "default-src 'none'; script-src 'self'; style-src 'self'; connect-src 'self'; img-src 'self' data:; "
        + "form-action 'self'; base-uri 'none'; frame-ancestors 'none'";

    private static readonly Dictionary<string, string> s_types = new()
    {
        [".html"] = "text/html; charset=utf-8",
        [".css"] = "text/css; charset=utf-8",
        [".js"] = "text/javascript; charset=utf-8",
    };

    public static void Map(WebApplication app)
    {
        app.MapGet("/", (HttpContext context) => SendAsync(context, "index.html")).ExcludeFromDescription();
        app.MapGet("/page/{file}", (HttpContext context, string file) => SendAsync(context, file)).ExcludeFromDescription();
        var group = app.MapGroup("/api").WithTags("The web page");
        group.MapPost("/session", async (HttpContext context, SignIn sign, TokenStore tokens, SlowDown slow, AuditLog audit) =>
        {
            Demand(context);
            var address = PeopleEndpoints.AddressOf(context);
            if (await slow.TryAsync(address, () => tokens.FindAsync(sign.Token ?? "", context.RequestAborted), context.RequestAborted)
                .ConfigureAwait(false) is not { } caller)
            {
                await audit.NoteAsync("", address, "sign in", "", "not let: no such token", context.RequestAborted).ConfigureAwait(false);
                throw StationException.Of(403, "access-denied", "the station does not know this token, or it has ended");
            }
            var (secret, until) = await tokens.BeginSessionAsync(caller, context.RequestAborted).ConfigureAwait(false);
            context.Response.Cookies.Append(Access.Cookie, secret, new CookieOptions
            {
                Secure = true,
                HttpOnly = true,
                SameSite = SameSiteMode.Strict,
                Path = "/",
                Expires = until,
            });
            await audit.NoteAsync(caller.Name, address, "sign in", "", "", context.RequestAborted).ConfigureAwait(false);
            return caller;
        }).WithSummary("Begins a session of the web page");
        group.MapDelete("/session", async (HttpContext context, TokenStore tokens) =>
        {
            Demand(context);
            if (context.Request.Cookies[Access.Cookie] is { Length: > 0 } secret)
                await tokens.EndSessionAsync(secret, context.RequestAborted).ConfigureAwait(false);
            context.Response.Cookies.Delete(Access.Cookie, new CookieOptions { Secure = true, Path = "/" });
            return Results.NoContent();
        }).WithSummary("Ends it");
        group.MapGet("/feed", async (HttpContext context, Access access, ChangeFeed feed, IHostApplicationLifetime lifetime) =>
        {
            await access.DemandAsync(context, Role.Viewer).ConfigureAwait(false);
            return TypedResults.ServerSentEvents(ChangesAsync(feed, lifetime.ApplicationStopping, context.RequestAborted));
        }).WithSummary("Tells by server-sent events that something happened to machines");
    }

    private static void Demand(HttpContext context)
    {
        if (context.Request.Headers[Access.PageHeader].Count == 0)
            throw StationException.Of(403, "not-the-page", "this is for the station's own page");
    }

    // A word now and then keeps what stands between from closing it.
    private static async IAsyncEnumerable<SseItem<string>> ChangesAsync(ChangeFeed feed, CancellationToken stopping,
        [EnumeratorCancellation] CancellationToken cancellation)
    {
        var quiet = TimeSpan.FromSeconds(20);
        var pause = TimeSpan.FromMilliseconds(200);
        using var either = CancellationTokenSource.CreateLinkedTokenSource(stopping, cancellation);
        yield return new SseItem<string>("quiet", "quiet");
        while (!either.IsCancellationRequested)
        {
            var next = feed.NextOfAny();
            var happened = await Task.WhenAny(next, Task.Delay(quiet, either.Token)).ConfigureAwait(false) == next;
            if (either.IsCancellationRequested)
                yield break;
            yield return new SseItem<string>(happened ? "changed" : "quiet", happened ? "machine" : "quiet");
            await Task.Delay(pause, either.Token).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
    }

    private static async Task SendAsync(HttpContext context, string file)
    {
        using var stream = s_types.ContainsKey(Path.GetExtension(file))
            ? Assembly.GetExecutingAssembly().GetManifestResourceStream($"Pages/{file}") : null;
        if (stream is null)
            throw StationException.NotFound("no-such-address", $"there is no page '{file}'");
        context.Response.ContentType = s_types[Path.GetExtension(file)];
        context.Response.ContentLength = stream.Length;
        context.Response.Headers.ContentSecurityPolicy = Policy;
        context.Response.Headers.XContentTypeOptions = "nosniff";
        context.Response.Headers["Referrer-Policy"] = "no-referrer";
        context.Response.Headers.CacheControl = "no-cache";
        await stream.CopyToAsync(context.Response.Body, context.RequestAborted).ConfigureAwait(false);
    }
}
