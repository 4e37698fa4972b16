using System.Net;
using System.Net.Sockets;
using Vembar.Operations.Stations.Contract;
using Vembar.Station.Archives;
using Vembar.Station.Machines;
using Vembar.Station.People;
using Vembar.Station.Problems;

namespace Vembar.Station.Interface;

/// <summary>What people and scripts do.</summary>
internal static class PeopleEndpoints
{
    private const int MostEvents = 5000;

    public static void Map(WebApplication app)
    {
        var group = app.MapGroup("/api").WithTags("For people and scripts");
        group.MapGet("/caller", (HttpContext context, Access access) => access.DemandAsync(context, Role.Viewer))
            .WithSummary("Who asks, as the station sees it");
        group.MapGet("/machines", async (HttpContext context, Access access, MachineService service) =>
        {
            await access.DemandAsync(context, Role.Viewer).ConfigureAwait(false);
            return await service.ListAsync(context.RequestAborted).ConfigureAwait(false);
        }).WithSummary("All machines, those that wait for somebody first");
        group.MapGet("/machines/{machine}", async (HttpContext context, string machine, Access access, MachineService service) =>
        {
            await access.DemandAsync(context, Role.Viewer).ConfigureAwait(false);
            return await service.DetailAsync(machine, context.RequestAborted).ConfigureAwait(false);
        }).WithSummary("A machine with its devices, what is in the way of its image, and how its last task ended");
        group.MapGet("/machines/{machine}/events", async (HttpContext context, string machine, long? after, Access access,
            MachineStore store) =>
        {
            await access.DemandAsync(context, Role.Viewer).ConfigureAwait(false);
            var row = await store.NamedAsync(machine, context.RequestAborted).ConfigureAwait(false);
            return (IReadOnlyList<MachineEvent>)await store.EventsAsync(row.Id, after ?? 0, MostEvents, context.RequestAborted)
                .ConfigureAwait(false);
        }).WithSummary("What happened to a machine, the oldest first");
        foreach (var (word, begin, summary) in ((string, bool, string)[])[("approve", true, "Approves a machine: it begins"),
            ("assign", false, "Says what a machine is to become")])
        {
            group.MapPost($"/machines/{{machine}}/{word}", async (HttpContext context, string machine, Approval approval, Access access,
                MachineService service, AuditLog audit) =>
                await Acting(context, access, audit, Role.Technician, word, machine,
                caller => service.ApproveAsync(machine, approval, caller,
                    begin, Request(context), context.RequestAborted), approval.Accept is { Count: > 0 }
                    ? $"set aside: {string.Join(", ", approval.Accept)}" : "").ConfigureAwait(false)).WithSummary(summary);
        }
        group.MapPost("/machines/{machine}/capture", async (HttpContext context, string machine, CaptureOrder order, Access access,
            MachineService service, AuditLog audit) =>
            await Acting(context, access, audit, Role.Administrator, "capture", machine,
            caller => service.CaptureAsync(machine, order, caller,
                Request(context), context.RequestAborted), order.Name).ConfigureAwait(false)).WithSummary("Has a machine's disk captured");
        group.MapPost("/machines/{machine}/stop", async (HttpContext context, string machine, Access access, MachineService service,
            AuditLog audit) =>
            await Acting(context, access, audit, Role.Technician, "stop", machine, caller => service.StopAsync(machine, caller,
                context.RequestAborted)).ConfigureAwait(false)).WithSummary("Stops a machine's task");
        group.MapPost("/machines/{machine}/retry", async (HttpContext context, string machine, Access access, MachineService service,
            AuditLog audit) =>
            await Acting(context, access, audit, Role.Technician, "retry", machine, caller => service.RetryAsync(machine, caller,
                Request(context), context.RequestAborted)).ConfigureAwait(false)).WithSummary("Has a machine do its last task again");
        group.MapPost("/machines/{machine}/wake", async (HttpContext context, string machine, Access access, MachineService service,
            MachinePower power, AuditLog audit) =>
            await Acting(context, access, audit, Role.Technician, "wake", machine, async caller =>
            {
                var row = await service.NoteWakeAsync(machine, caller, context.RequestAborted).ConfigureAwait(false);
                await MagicPacket.SendAsync(row.Document.Identity.Addresses, context.RequestAborted).ConfigureAwait(false);
                if (power.CommandFor(row) is { } command)
                    await power.RunAsync(command, row, context.RequestAborted).ConfigureAwait(false);
                return service.Describe(row, null);
            }).ConfigureAwait(false))
            .WithSummary("Calls a machine that is switched off: by a magic packet, and by the command of its site");
        group.MapDelete("/machines/{machine}", async (HttpContext context, string machine, Access access, MachineService service,
            AuditLog audit) =>
            await Acting(context, access, audit, Role.Technician, "forget", machine, caller => service.ForgetAsync(machine, caller,
                context.RequestAborted)).ConfigureAwait(false)).WithSummary("Takes a machine off the list");
        group.MapPost("/machines/import", async (HttpContext context, IReadOnlyList<ImportRow> rows, Access access, MachineService service,
            AuditLog audit) =>
        {
            var caller = await access.DemandAsync(context, Role.Technician).ConfigureAwait(false);
            var answer = await service.ImportAsync(rows, caller, context.RequestAborted).ConfigureAwait(false);
            await audit.NoteAsync(caller.Name, AddressOf(context), "import", $"{rows.Count} machines",
                $"{answer.Added} added, {answer.Changed} changed", context.RequestAborted).ConfigureAwait(false);
            return answer;
        }).WithMetadata(new RequestSizeLimit(16 << 20)).WithSummary("Adds machines of a list, and says what they are to become");
        group.MapGet("/images", async (HttpContext context, Access access, StationArchives archives) =>
        {
            await access.DemandAsync(context, Role.Viewer).ConfigureAwait(false);
            return await Task.Run(() => archives.Images().Images).ConfigureAwait(false);
        }).WithSummary("All images of the station's archives");
        group.MapGet("/audit", async (HttpContext context, long? before, Access access, AuditLog audit) =>
        {
            await access.DemandAsync(context, Role.Administrator).ConfigureAwait(false);
            return await audit.ListAsync(before, context.RequestAborted).ConfigureAwait(false);
        }).WithSummary("What was done at the station, the newest first");
        MapTokens(group);
    }

    private static void MapTokens(RouteGroupBuilder group)
    {
        group.MapGet("/tokens", async (HttpContext context, Access access, TokenStore tokens) =>
        {
            await access.DemandAsync(context, Role.Administrator).ConfigureAwait(false);
            return await tokens.ListAsync(context.RequestAborted).ConfigureAwait(false);
        }).WithSummary("All tokens, without their secrets");
        group.MapPost("/tokens", async (HttpContext context, TokenOrder order, Access access, TokenStore tokens, AuditLog audit) =>
        {
            var caller = await access.DemandAsync(context, Role.Administrator).ConfigureAwait(false);
            var made = await tokens.AddAsync(order, caller.Name, context.RequestAborted).ConfigureAwait(false);
            await audit.NoteAsync(caller.Name, AddressOf(context), "token add", order.Name, $"{order.Role}", context.RequestAborted)
                .ConfigureAwait(false);
            return made;
        }).WithSummary("Makes a token; its secret is told this once");
        group.MapDelete("/tokens/{name}", async (HttpContext context, string name, Access access, TokenStore tokens, AuditLog audit) =>
        {
            var caller = await access.DemandAsync(context, Role.Administrator).ConfigureAwait(false);
            await tokens.RevokeAsync(name, context.RequestAborted).ConfigureAwait(false);
            await audit.NoteAsync(caller.Name, AddressOf(context), "token revoke", name, "", context.RequestAborted).ConfigureAwait(false);
            return await tokens.ListAsync(context.RequestAborted).ConfigureAwait(false);
        }).WithSummary("Takes a token back");
    }

    /// <summary>What makes a request the same when it comes again; null for nothing.</summary>
    public static string? Request(HttpContext context) =>
        context.Request.Headers["Idempotency-Key"].ToString() is { Length: > 0 and <= 64 } key ? key : null;

    public static string AddressOf(HttpContext context) => context.Connection.RemoteIpAddress?.ToString() ?? "";

    // Also what was refused is noted.
    private static async Task<MachineInfo> Acting(HttpContext context, Access access, AuditLog audit, Role role, string action,
        string machine,
        Func<Caller, Task<MachineInfo>> act, string text = "")
    {
        Caller caller;
        try
        {
            caller = await access.DemandAsync(context, role).ConfigureAwait(false);
        }
        catch (StationException refused)
        {
            await audit.NoteAsync((await access.CallerAsync(context).ConfigureAwait(false))?.Name ?? "", AddressOf(context), action,
                machine,
                $"not let: {refused.Problem.Code}", context.RequestAborted).ConfigureAwait(false);
            throw;
        }
        try
        {
            var done = await act(caller).ConfigureAwait(false);
            await audit.NoteAsync(caller.Name, AddressOf(context), action,
                done.Assignment.Name.Length > 0 ? $"{done.Id} {done.Assignment.Name}" : done.Id, text, context.RequestAborted)
                .ConfigureAwait(false);
            return done;
        }
        catch (StationException refused)
        {
            await audit.NoteAsync(caller.Name, AddressOf(context), action, machine, $"refused: {refused.Problem.Title}",
                context.RequestAborted).ConfigureAwait(false);
            throw;
        }
    }
}
