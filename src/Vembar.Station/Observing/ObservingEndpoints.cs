using System.Data.Common;
using Prometheus;
using Vembar.Station.Machines;

namespace Vembar.Station.Observing;

/// <summary>Whether the station is well, for those who watch over it.</summary>
internal static class ObservingEndpoints
{
    public static void Map(WebApplication app)
    {
        var group = app.MapGroup("").WithTags("Watching over it");
        group.MapGet("/health/live", () => "live\n").WithSummary("Whether it runs");
        group.MapGet("/health/ready", async (HttpContext context, MachineStore store, IHostApplicationLifetime lifetime) =>
        {
            try
            {
                await store.LastEventAsync(context.RequestAborted).ConfigureAwait(false);
                if (!lifetime.ApplicationStopping.IsCancellationRequested)
                    return Results.Text("ready\n");
                return Results.Text("stopping\n", statusCode: 503);
            }
            catch (DbException)
            {
                return Results.Text("the database cannot be reached\n", statusCode: 503);
            }
        }).WithSummary("Whether it can do its work");
        group.MapGet("/metrics", async (HttpContext context, MachineService machines) =>
        {
            try
            {
                var all = await machines.ListAsync(context.RequestAborted).ConfigureAwait(false);
                foreach (var state in Enum.GetValues<Operations.Stations.Contract.MachineState>())
                    StationMetrics.Machines.WithLabels(state.ToString().ToLowerInvariant()).Set(all.Count(m => m.State == state));
            }
            catch (DbException)
            {
                // The rest can be told.
            }
            context.Response.ContentType = "application/openmetrics-text; version=1.0.0; charset=utf-8";
            await Metrics.DefaultRegistry.CollectAndExportAsTextAsync(context.Response.Body, ExpositionFormat.OpenMetricsText,
                context.RequestAborted).ConfigureAwait(false);
        }).WithSummary("What is counted and measured, as OpenMetrics");
    }
}
