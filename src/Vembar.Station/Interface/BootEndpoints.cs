using Vembar.Station.Boot;

namespace Vembar.Station.Interface;

/// <summary>What boot loaders fetch; they speak plain HTTP, and get nothing else.</summary>
internal static class BootEndpoints
{
    private const string Root = "/boot";

    /// <summary>Keeps whoever comes without TLS to the boot loaders' part.</summary>
    public static Task GuardAsync(HttpContext context, RequestDelegate next)
    {
        if (context.Request.IsHttps || context.Request.Path.StartsWithSegments(Root, StringComparison.Ordinal))
            return next(context);
        context.Response.StatusCode = StatusCodes.Status404NotFound;
        return Task.CompletedTask;
    }

    public static void Map(WebApplication app)
    {
        var group = app.MapGroup(Root).WithTags("Boot").ExcludeFromDescription();
        group.MapGet("/start.ipxe", (BootService boot) => Results.Text(boot.FirstScript()));
        group.MapGet("/machine.ipxe", async (HttpContext context, BootService boot, string? uuid, string? serial, string? mac) =>
            Results.Text(await boot.ScriptAsync(Short(uuid), Short(serial), Short(mac), context.RequestAborted).ConfigureAwait(false)));
        group.MapMethods("/loaders/{file}", ["GET", "HEAD"], (BootService boot, string file) =>
            Results.File(boot.LoaderOf(file), "application/efi"));
        group.MapMethods("/starters/{starter}/{file}", ["GET", "HEAD"], (BootService boot, string starter, string file) =>
            Results.File(boot.FileOf(starter, file), "application/octet-stream", enableRangeProcessing: true));
    }

    private static string Short(string? text) => text is { Length: < 200 } ? text : "";
}
