using Vembar.Operations.Stations.Contract;
using Vembar.Station.Archives;
using Vembar.Station.Database;
using Vembar.Station.Machines;
using Vembar.Station.Problems;

namespace Vembar.Station.People;

/// <summary>Finds out who asks: people and scripts by their tokens or sessions, machines by their keys.</summary>
public sealed class Access(TokenStore tokens, MachineStore machines)
{
    /// <summary>The cookie of the web page's session.</summary>
    public const string Cookie = "__Host-station";

    /// <summary>The header that changes from the web page carry: no other page can send it.</summary>
    public const string PageHeader = "X-Station-Page";

    private static string? Bearer(HttpContext context)
    {
        var header = context.Request.Headers.Authorization.ToString();
        const string Scheme = "Bearer ";
        if (header.StartsWith(Scheme, StringComparison.OrdinalIgnoreCase))
            return header[Scheme.Length..].Trim();
        return null;
    }

    /// <summary>Who asks; null for one who does not say, or is not known.</summary>
    public async Task<Caller?> CallerAsync(HttpContext context)
    {
        if (Bearer(context) is { } token)
            return token.StartsWith("vst_", StringComparison.Ordinal)
                ? await tokens.FindAsync(token, context.RequestAborted).ConfigureAwait(false) : null;
        if (context.Request.Cookies[Cookie] is not { Length: > 0 } session)
            return null;
        // A page from elsewhere can have the browser send the cookie, and not the header.
        if (!HttpMethods.IsGet(context.Request.Method) && !HttpMethods.IsHead(context.Request.Method)
            && context.Request.Headers[PageHeader].Count == 0)
            return null;
        return await tokens.FindAsync(session, context.RequestAborted).ConfigureAwait(false);
    }

    /// <summary>The machine that asks; null for none.</summary>
    public async Task<string?> MachineAsync(HttpContext context) =>
        (await MachineRowAsync(context).ConfigureAwait(false))?.Id;

    /// <summary>Demands somebody who may.</summary>
    /// <exception cref="StationException">Nobody, or one who may not.</exception>
    public async Task<Caller> DemandAsync(HttpContext context, Role role)
    {
        if (await CallerAsync(context).ConfigureAwait(false) is not { } caller)
        {
            context.Response.Headers.WWWAuthenticate = "Bearer";
            throw StationException.Of(401, "access-denied", Bearer(context) is null ? "the station does not let you in without a token"
                : "the station does not know this token, or it has ended", "Log in with `vembar login ADDRESS --token`.");
        }
        if (caller.Role < role)
            throw StationException.Of(403, "role-too-low",
                $"'{caller.Name}' is {Word(caller.Role)}; this is for {(role == Role.Administrator ? "administrators" : "technicians")}",
                "Ask somebody who may.");
        return caller;
    }

    private static string Word(Role role) => role switch
    {
        Role.Viewer => "a viewer",
        Role.Technician => "a technician",
        _ => "an administrator",
    };

    private async Task<MachineRow?> MachineRowAsync(HttpContext context) =>
        Bearer(context) is { } key && key.StartsWith("vsm_", StringComparison.Ordinal)
            ? await machines.FindByKeyAsync(Secrets.Hash(key), context.RequestAborted).ConfigureAwait(false) : null;

    /// <summary>Demands somebody who may read an archive: people, and machines whose task it is for.</summary>
    /// <exception cref="StationException">Nobody, or one who may not.</exception>
    public async Task DemandReaderAsync(HttpContext context, ServedArchive archive)
    {
        // What users made is not for everybody who looks after machines.
        if (await MachineRowAsync(context).ConfigureAwait(false) is not { } row)
            await DemandAsync(context, archive.UserFilesOf is null ? Role.Viewer : Role.Administrator).ConfigureAwait(false);
        else if (row.Document.Task?.Archive != AddressOf(archive) && !KeepsIn(row, archive))
            throw NothingToDoThere(archive);
    }

    private static string AddressOf(ServedArchive archive) => $"/archives/{archive.Name}";

    private static bool KeepsIn(MachineRow row, ServedArchive archive) =>
        archive.UserFilesOf == row.Id && row.Document.Task?.UserFiles?.Archive == AddressOf(archive);

    /// <summary>Who may add to an archive: administrators, and machines that are captured into it.</summary>
    /// <returns>Null for one who may not.</returns>
    public async Task<ArchiveWriterName?> WriterAsync(HttpContext context, ServedArchive archive)
    {
        if (await CallerAsync(context).ConfigureAwait(false) is { Role: Role.Administrator } caller)
            return new ArchiveWriterName(caller.Name, IsMachine: false);
        return await MachineRowAsync(context).ConfigureAwait(false) is { Document.Task: { } task } row
            && (KeepsIn(row, archive) || task.Kind == TaskKind.Capture && task.Archive == AddressOf(archive))
            ? new ArchiveWriterName(row.DisplayName, IsMachine: true) : null;
    }

    /// <summary>Demands somebody who may add to an archive.</summary>
    /// <exception cref="StationException">Nobody, or one who may not.</exception>
    public async Task<ArchiveWriterName> DemandWriterAsync(HttpContext context, ServedArchive archive)
    {
        if (await MachineRowAsync(context).ConfigureAwait(false) is null)
            await DemandAsync(context, Role.Administrator).ConfigureAwait(false);
        return await WriterAsync(context, archive).ConfigureAwait(false) ?? throw NothingToDoThere(archive);
    }

    private static StationException NothingToDoThere(ServedArchive archive) =>
        StationException.Of(403, "not-for-this-machine", $"the machine has nothing to do with '{archive.Name}' now");

    /// <summary>Demands a machine.</summary>
    /// <exception cref="StationException">It is none that is known.</exception>
    public async Task<string> DemandMachineAsync(HttpContext context) => await MachineAsync(context).ConfigureAwait(false)
        ?? throw StationException.Of(401, "unknown-machine", "the station does not know this machine, or not with this key",
            "Let it join again.");
}
