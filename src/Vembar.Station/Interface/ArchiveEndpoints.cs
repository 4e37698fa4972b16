using Prometheus;
using Vembar.Operations.Stations.Contract;
using Vembar.Station.Archives;
using Vembar.Station.Observing;
using Vembar.Station.People;

namespace Vembar.Station.Interface;

/// <summary>Archives as places.</summary>
internal static class ArchiveEndpoints
{
    public static void Map(WebApplication app)
    {
        var group = app.MapGroup("/archives").WithTags("Archives");
        group.MapMethods("/{name}", ["GET", "HEAD"], async (HttpContext context, string name, Access access, StationArchives archives,
            ArchiveFiles files) =>
        {
            // Machines read what they are given; people need to be let in.
            if (await access.MachineAsync(context).ConfigureAwait(false) is null)
                await access.DemandAsync(context, Role.Viewer).ConfigureAwait(false);
            using var lease = await Task.Run(() => files.Take(archives.Named(Plain(name)))).ConfigureAwait(false);
            using var reading = GaugeExtensions.TrackInProgress(StationMetrics.Readers);
            StationMetrics.BytesServed.Inc(await RangeAnswer.WriteAsync(context, lease.File).ConfigureAwait(false));
        }).WithSummary("An archive, or parts of it (Range)");
    }

    // The file's name does as well as the archive's.
    private static string Plain(string name) => name.EndsWith(".vmb", StringComparison.OrdinalIgnoreCase) ? name[..^4] : name;
}
