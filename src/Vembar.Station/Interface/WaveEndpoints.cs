using Vembar.Operations.Stations.Contract;
using Vembar.Station.People;
using Vembar.Station.Waves;

namespace Vembar.Station.Interface;

/// <summary>Waves, for people and for machines.</summary>
internal static class WaveEndpoints
{
    public static void Map(WebApplication app)
    {
        var group = app.MapGroup("/api/waves").WithTags("For people and scripts");
        group.MapGet("", async (HttpContext context, Access access, WaveService waves) =>
        {
            await access.DemandAsync(context, Role.Viewer).ConfigureAwait(false);
            return await waves.ListAsync(context.RequestAborted).ConfigureAwait(false);
        }).WithSummary("Waves, the newest first");
        group.MapGet("/{wave}", async (HttpContext context, string wave, Access access, WaveService waves) =>
        {
            await access.DemandAsync(context, Role.Viewer).ConfigureAwait(false);
            return await waves.FindAsync(wave, context.RequestAborted).ConfigureAwait(false);
        }).WithSummary("A wave with its machines");
        group.MapPost("", async (HttpContext context, WaveRequest request, Access access, WaveService waves, AuditLog audit) =>
        {
            var caller = await access.DemandAsync(context, Role.Technician).ConfigureAwait(false);
            var made = await waves.AddAsync(request, caller, PeopleEndpoints.Request(context), context.RequestAborted)
                .ConfigureAwait(false);
            await audit.NoteAsync(caller.Name, PeopleEndpoints.AddressOf(context), "wave", made.Id, made.Title, context.RequestAborted)
                .ConfigureAwait(false);
            return made;
        }).WithSummary("Has many machines get an image at once");
        group.MapPost("/{wave}/stop", async (HttpContext context, string wave, Access access, WaveService waves, AuditLog audit) =>
        {
            var caller = await access.DemandAsync(context, Role.Technician).ConfigureAwait(false);
            var stopped = await waves.StopAsync(wave, caller, context.RequestAborted).ConfigureAwait(false);
            await audit.NoteAsync(caller.Name, PeopleEndpoints.AddressOf(context), "wave stop", wave, "", context.RequestAborted)
                .ConfigureAwait(false);
            return stopped;
        }).WithSummary("Stops a wave");
        app.MapGet("/api/machine/waves/{wave}/plan", async (HttpContext context, string wave, Access access, WaveService waves) =>
            await waves.PlanAsync(await access.DemandMachineAsync(context).ConfigureAwait(false), wave, context.RequestAborted)
                .ConfigureAwait(false)).WithTags("For machines").WithSummary("A machine asks what its wave sends");
    }
}
