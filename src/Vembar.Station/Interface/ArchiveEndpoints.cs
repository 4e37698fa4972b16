using Prometheus;
using Vembar.Native;
using Vembar.Operations.Stations.Contract;
using Vembar.Station.Archives;
using Vembar.Station.Observing;
using Vembar.Station.People;
using Vembar.Station.Problems;
using Vembar.Store.Places;
using Vembar.Store.Places.Remote;

namespace Vembar.Station.Interface;

/// <summary>Archives as places.</summary>
internal static class ArchiveEndpoints
{
    private const long LongestOffer = 64 << 20;

    public static void Map(WebApplication app)
    {
        var group = app.MapGroup("/archives").WithTags("Archives");
        group.MapMethods("/{name}", ["GET", "HEAD"], ReadAsync).WithSummary("An archive, or parts of it (Range)");
        group.MapPost("/{name}/tails", async (HttpContext context, string name, TailOffer offer, Access access, StationArchives archives,
            TailStore tails) =>
        {
            var (archive, _) = await WriterAsync(context, name, access, archives).ConfigureAwait(false);
            return await tails.OfferAsync(archive, offer, context.RequestAborted).ConfigureAwait(false);
        }).WithMetadata(new RequestSizeLimit(LongestOffer)).WithSummary("Offers what is to be added to an archive; answers with what is "
            + "missing of it");
        group.MapPut("/{name}/tails/{id}/{part:int}", async (HttpContext context, string name, string id, int part, Access access,
            StationArchives archives, TailStore tails) =>
        {
            var (archive, _) = await WriterAsync(context, name, access, archives).ConfigureAwait(false);
            return await tails.TakeAsync(archive, id, part, context.Request.Body, context.RequestAborted).ConfigureAwait(false);
        }).WithMetadata(new RequestSizeLimit(TailOffer.PartLength)).WithSummary("A part of what was offered, as bytes");
        group.MapPost("/{name}/tails/{id}", async (HttpContext context, string name, string id, Access access, StationArchives archives,
            TailStore tails, AuditLog audit) =>
        {
            var (archive, who) = await WriterAsync(context, name, access, archives).ConfigureAwait(false);
            var taken = await tails.CommitAsync(archive, id, addsOnly: who.IsMachine, context.RequestAborted).ConfigureAwait(false);
            await audit.NoteAsync(who.Name, PeopleEndpoints.AddressOf(context), "archive", archive.Name, taken.State,
                context.RequestAborted)
                .ConfigureAwait(false);
            return taken;
        }).WithSummary("Adds what has come whole, if the archive is still in the state that it was made for");
    }

    private static async Task ReadAsync(HttpContext context, string name, Access access, StationArchives archives, ArchiveFiles files)
    {
        var archive = archives.At(Plain(name));
        await access.DemandReaderAsync(context, archive).ConfigureAwait(false);
        var isLocal = !PlaceAddress.IsRemote(archive.Place);
        if (HttpMethods.IsHead(context.Request.Method) && isLocal
            && await access.WriterAsync(context, archive).ConfigureAwait(false) is not null)
            context.Response.Headers[TailOffer.Header] = "yes";
        if (isLocal && !Posix.Exists(archive.Place))
            throw StationException.NotFound("no-such-archive", $"there is nothing in '{archive.Name}' yet");
        using var lease = await files.TakeAsync(archive, context.RequestAborted).ConfigureAwait(false);
        using var reading = GaugeExtensions.TrackInProgress(StationMetrics.Readers);
        StationMetrics.BytesServed.Inc(await RangeAnswer.WriteAsync(context, lease.File).ConfigureAwait(false));
    }

    private static async Task<(ServedArchive Archive, ArchiveWriterName Who)> WriterAsync(HttpContext context, string name, Access access,
        StationArchives archives)
    {
        var archive = archives.WritableAt(Plain(name));
        return (archive, await access.DemandWriterAsync(context, archive).ConfigureAwait(false));
    }

    // The file's name does as well as the archive's.
    private static string Plain(string name) => name.EndsWith(".vmb", StringComparison.OrdinalIgnoreCase) ? name[..^4] : name;
}
