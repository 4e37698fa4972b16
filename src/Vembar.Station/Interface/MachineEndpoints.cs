using Vembar.Operations.Stations.Contract;
using Vembar.Station.Attending;
using Vembar.Station.Machines;
using Vembar.Station.People;

namespace Vembar.Station.Interface;

/// <summary>What machines ask and tell.</summary>
internal static class MachineEndpoints
{
    private const long LongestReport = 1 << 20;

    public static void Map(WebApplication app)
    {
        var group = app.MapGroup("/api").WithTags("For machines");
        group.MapPost("/join", (JoinRequest request, MachineService service, CancellationToken cancellation) =>
            service.JoinAsync(request, cancellation))
            .WithMetadata(new RequestSizeLimit(LongestReport)).WithSummary("A machine joins, and says what it is");
        group.MapGet("/machine/task", async (HttpContext context, MachineState? state, Access access, MachineService service,
            IHostApplicationLifetime lifetime) =>
        {
            using var either = CancellationTokenSource.CreateLinkedTokenSource(context.RequestAborted, lifetime.ApplicationStopping);
            return await service.PollAsync(await access.DemandMachineAsync(context).ConfigureAwait(false), state, either.Token)
                .ConfigureAwait(false);
        }).WithSummary("A machine asks what it is to do; answered when its state is another than the one that it names");
        group.MapPost("/machine/report", async (HttpContext context, TaskReport report, Access access, MachineService service) =>
            await service.ReportAsync(await access.DemandMachineAsync(context).ConfigureAwait(false), report, context.RequestAborted)
                .ConfigureAwait(false))
            .WithMetadata(new RequestSizeLimit(LongestReport)).WithSummary("A machine tells of its task");
        group.MapPost("/machine/attend", async (HttpContext context, AttendRequest request, Access access, AttendedService service) =>
            await service.SignInAsync(await access.DemandMachineAsync(context).ConfigureAwait(false), PeopleEndpoints.AddressOf(context),
                request, context.RequestAborted).ConfigureAwait(false)).WithSummary("Somebody signs in at the console of a machine");
        group.MapPost("/machine/attend/approve", async (HttpContext context, AttendedApproval approval, Access access,
            AttendedService service) =>
            await service.ApproveAsync(await access.DemandMachineAsync(context).ConfigureAwait(false), PeopleEndpoints.AddressOf(context),
                approval, context.RequestAborted).ConfigureAwait(false)).WithSummary("Somebody at the console of a machine approves it");
        group.MapDelete("/machine", async (HttpContext context, Access access, MachineService service) =>
        {
            await service.LeaveAsync(await access.DemandMachineAsync(context).ConfigureAwait(false), context.RequestAborted)
                .ConfigureAwait(false);
            return new TaskReportAnswer(false);
        }).WithSummary("A machine leaves");
    }
}
