using Vembar.Operations.Stations.Contract;
using Vembar.Station.Archives;
using Vembar.Station.Machines;
using Vembar.Station.People;
using Vembar.Station.Problems;

namespace Vembar.Station.Attending;

/// <summary>Somebody at the console of a machine: they sign in before they see anything of the station's.</summary>
public sealed class AttendedService(MachineStore store, MachineService machines, StationArchives archives, TokenStore tokens, SlowDown slow,
    AuditLog audit)
{
    /// <summary>Signs somebody in. Who is wrong waits longer each time: at this machine, and whoever they say that they are.</summary>
    /// <exception cref="StationException">It is wrong, or they may not approve machines.</exception>
    public async Task<AttendAnswer> SignInAsync(string machine, string address, AttendRequest request, CancellationToken cancellation)
    {
        var (name, secret) = (request.Name ?? "", request.Secret ?? "");
        async Task<Caller?> Look() => (name.Length > 0 ? await tokens.FindByPinAsync(name, secret, cancellation).ConfigureAwait(false)
            : await tokens.FindAsync(secret, cancellation).ConfigureAwait(false)) is { Role: >= Role.Technician } found ? found : null;
        if (await slow.TryAsync($"machine {machine}", () => slow.TryAsync($"token {name}", Look, cancellation), cancellation)
            .ConfigureAwait(false) is not { } caller)
        {
            await audit.NoteAsync(name, address, "sign in at a machine", machine, "not let: wrong token or PIN, or one for looking alone",
                cancellation).ConfigureAwait(false);
            throw StationException.Of(403, "access-denied", "that is not the token or PIN of anybody who may approve machines");
        }
        await audit.NoteAsync(caller.Name, address, "sign in at a machine", machine, "", cancellation).ConfigureAwait(false);
        var row = await store.FindAsync(machine, cancellation).ConfigureAwait(false)
            ?? throw StationException.Of(401, "unknown-machine", "the station does not know this machine any more");
        var (ticket, _) = await tokens.BeginSessionAsync(caller, TimeSpan.FromMinutes(10), cancellation).ConfigureAwait(false);
        var images = await Task.Run(() => archives.Images().Images, cancellation).ConfigureAwait(false);
        return new AttendAnswer(ticket, caller, row.Document.Assignment, [.. images.Where(i => i.IsOffered)]);
    }

    /// <summary>Approves the machine that somebody signed in at.</summary>
    /// <exception cref="StationException">Something is in the way, or it took them too long.</exception>
    public async Task<MachineInfo> ApproveAsync(string machine, string address, AttendedApproval approval, CancellationToken cancellation)
    {
        if (await tokens.FindAsync(approval.Ticket ?? "", cancellation).ConfigureAwait(false) is not { Role: >= Role.Technician } caller)
            throw StationException.Of(403, "access-denied", "nobody is signed in at this machine any more", "Sign in again.");
        var done = await machines.ApproveAsync(machine, approval.Approval, caller, begin: true, null, cancellation)
            .ConfigureAwait(false);
        await audit.NoteAsync(caller.Name, address, "approve at a machine", $"{done.Id} {done.Assignment.Name}", "", cancellation)
            .ConfigureAwait(false);
        await tokens.EndSessionAsync(approval.Ticket!, cancellation).ConfigureAwait(false);
        return done;
    }
}
