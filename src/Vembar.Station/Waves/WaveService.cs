using System.Collections.Concurrent;
using System.Globalization;
using System.Net;
using System.Net.NetworkInformation;
using System.Net.Sockets;
using System.Text.Json;
using Vembar.Common;
using Vembar.Common.Files;
using Vembar.Native;
using Vembar.Native.Multicast;
using Vembar.Operations.Stations.Contract;
using Vembar.Operations.Waves;
using Vembar.Station.Archives;
using Vembar.Station.Hosting;
using Vembar.Station.Machines;
using Vembar.Station.Problems;

namespace Vembar.Station.Waves;

/// <summary>Waves: an image that many machines get at once, sent once for all of them.</summary>
public sealed class WaveService(WaveStore store, MachineStore machines, MachineService service, ProgressBoard board,
    StationArchives archives, ArchiveFiles files, StationSettings settings, StationRegister register, TimeProvider clock,
    ILogger<WaveService> log)
{
    private static readonly TimeSpan s_often = TimeSpan.FromMilliseconds(500);
    private readonly ConcurrentDictionary<string, WaveSending> _sending = new();
    // Machines that are not taken, as they were then: they are looked at again when they change.
    private readonly ConcurrentDictionary<(string Wave, string Machine), long> _refused = new();

    private DateTime Now => clock.GetUtcNow().UtcDateTime;

    private string Own => register.Own is [var first, ..] ? first : "";

    private string Folder => Path.Combine(settings.Options.Data, "waves");

    private static bool IsOpen(WaveRow row) => row.State is WaveState.Waiting or WaveState.Sending or WaveState.Sent;

    /// <summary>Adds a wave.</summary>
    /// <param name="request">What is wanted.</param>
    /// <param name="caller">Who wants it.</param>
    /// <param name="key">What makes it the same request when it comes again; null for nothing.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <exception cref="StationException">It makes no sense, or there is one of that image.</exception>
    public async Task<WaveInfo> AddAsync(WaveRequest request, Caller caller, string? key, CancellationToken cancellation)
    {
        if (key is not null && (await store.NewestAsync(cancellation).ConfigureAwait(false)).Find(w => w.Document.Key == key) is { } known)
            return await DescribeAsync(known, cancellation).ConfigureAwait(false);
        const int Longest = 300, Most = 10_000;
        if (request is not { Image.Length: > 0 and <= Longest, Site.Length: <= Longest, Machines.Count: <= Most, Accept.Count: <= Longest }
            || (request.Image + request.Site).Any(char.IsControl) || request.Machines.Concat(request.Accept).Any(t => t is null))
            throw StationException.Bad("bad-wave", $"a wave is of an image, for up to {Most} machines, or a site");
        if (request.Joined is <= 0 or > Most)
            throw StationException.Bad("bad-wave", $"a wave waits for 1 to {Most} machines");
        if (request.Rate is { } rate && rate is < BitRate.Least or > BitRate.Most)
            throw StationException.Bad("bad-rate", $"a wave is sent with {BitRate.Write(BitRate.Least)} to {BitRate.Write(BitRate.Most)}");
        if (request.At is { } at && at < Now.AddMinutes(-1))
            throw StationException.Bad("bad-time", "the time at which the wave is to begin is over", "Name one that comes.");
        if (!MulticastSession.IsThere)
            throw StationException.Conflict("no-multicast", "the station cannot send to many at once: libnorm is not installed",
                "Install it where the station runs (Debian: libnorm1).");
        var ids = new List<string>();
        foreach (var named in request.Machines)
            ids.Add((await machines.NamedAsync(named, cancellation).ConfigureAwait(false)).Id);
        var (archive, image) = archives.Find(request.Image);
        var title = string.Create(CultureInfo.InvariantCulture, $"{archive.Name}#{image.Number} {image.Title}");
        foreach (var other in await store.OpenAsync(cancellation).ConfigureAwait(false))
        {
            if (other.Document.Root == image.Root.ToString() && other.State != WaveState.Sent)
                throw StationException.Conflict("wave-there", $"wave {other.Id} sends {title} already",
                    "Let its machines join that one, or stop it first.");
        }
        var options = settings.Options.Waves;
        var row = await store.AddAsync(Own, new WaveDocument
        {
            Request = request,
            By = caller,
            Key = key,
            Machines = [.. ids.Distinct()],
            Title = title,
            Archive = archive.Name,
            Image = image.Number,
            Root = image.Root.ToString(),
            Group = options.Group,
            Port = options.Port,
            Source = SourceOf(options),
            Rate = request.Rate ?? options.Rate,
        }, cancellation).ConfigureAwait(false);
        WaveLog.Said(log, row.Id, $"{title}, for {caller.Name}");
        return await DescribeAsync(row, cancellation).ConfigureAwait(false);
    }

    /// <summary>The newest waves, with their machines.</summary>
    public async Task<IReadOnlyList<WaveInfo>> ListAsync(CancellationToken cancellation)
    {
        var all = await machines.AllAsync(cancellation).ConfigureAwait(false);
        var progress = await board.AllAsync(cancellation).ConfigureAwait(false);
        return [.. (await store.NewestAsync(cancellation).ConfigureAwait(false)).Select(w => Describe(w, all, progress))];
    }

    /// <summary>A wave.</summary>
    /// <exception cref="StationException">There is none.</exception>
    public async Task<WaveInfo> FindAsync(string id, CancellationToken cancellation) =>
        await DescribeAsync(await store.FindAsync(id, cancellation).ConfigureAwait(false), cancellation).ConfigureAwait(false);

    private async Task<WaveInfo> DescribeAsync(WaveRow row, CancellationToken cancellation) =>
        Describe(row, await machines.AllAsync(cancellation).ConfigureAwait(false),
            await board.AllAsync(cancellation).ConfigureAwait(false));

    private WaveInfo Describe(WaveRow row, IReadOnlyList<MachineRow> all,
        IReadOnlyDictionary<string, (string Task, TaskProgress Progress)> progress)
    {
        var sent = _sending.TryGetValue(row.Id, out var sending) ? sending.Sent : row.Document.Sent;
        var members = MembersOf(row, all);
        return new WaveInfo
        {
            Id = row.Id,
            State = row.State,
            Title = row.Document.Title,
            Request = row.Document.Request,
            Group = string.Create(CultureInfo.InvariantCulture, $"{row.Document.Group} port {row.Port}"),
            Rate = row.Document.Rate,
            Bytes = row.Document.Bytes,
            Sent = sent,
            Began = row.Document.Began,
            Ended = row.Document.Ended,
            Remark = row.State == WaveState.Waiting ? WaitsFor(row, members.Count(IsReady)) : row.Document.Remark,
            Members = [.. members.OrderBy(m => m.Document.Assignment.Name, StringComparer.OrdinalIgnoreCase)
                .Select(m => new WaveMember(m.Id, m.Document.Assignment.Name, m.State,
                m.State == MachineState.Working && progress.TryGetValue(m.Id, out var own) && own.Task == m.Document.Task?.Id
                    ? own.Progress : null,
                m.Document.Task is null ? m.Document.Outcome?.Result?.Heard ?? 0 : 0,
                m.Document.Task is null ? m.Document.Outcome?.Result?.Asked ?? 0 : 0, m.Document.Remark))],
        };
    }

    private static bool IsReady(MachineRow machine) => machine.State == MachineState.Ready;

    // Also of a machine that has ended it, until it is at something else.
    private static List<MachineRow> MembersOf(WaveRow row, IReadOnlyList<MachineRow> all) =>
        [.. all.Where(m => (m.Document.Task ?? m.Document.LastTask)?.Wave?.Id == row.Id)];

    private static string WaitsFor(WaveRow row, int ready) => row.Document.Request switch
    {
        { Joined: { } count } => string.Create(CultureInfo.InvariantCulture, $"waits for {count} machines; {ready} are there"),
        { At: { } at } => string.Create(CultureInfo.InvariantCulture, $"waits until {at:yyyy-MM-dd HH:mm} UTC; {ready} machines are there"),
        _ => "waits for the first machine",
    };

    /// <summary>Stops a wave. Machines that wait for it wait for somebody again; others go on by themselves.</summary>
    /// <exception cref="StationException">There is none, or it is over.</exception>
    public async Task<WaveInfo> StopAsync(string id, Caller caller, CancellationToken cancellation)
    {
        var row = await store.ChangeAsync(id, now => !IsOpen(now)
            ? throw StationException.Conflict("wave-over", $"wave {id} is {now.State.ToString().ToLowerInvariant()} already")
            : now with { State = WaveState.Stopped, Document = now.Document with { Remark = $"stopped by {caller.Name}" } }, cancellation)
            .ConfigureAwait(false);
        if (_sending.TryRemove(row.Id, out var sending))
            await sending.DisposeAsync().ConfigureAwait(false);
        foreach (var member in MembersOf(row, await machines.AllAsync(cancellation).ConfigureAwait(false)))
        {
            await machines.ChangeAsync(member.Id, now => now.Document is not { IsHeld: true, Task.Wave: { } wave } || wave.Id != row.Id
                ? null
                : new MachineChange(now with
                {
                    State = MachineState.Waiting,
                    Document = now.Document with
                    {
                        IsHeld = false,
                        Task = null,
                        Remark = $"wave {row.Id}, which it waited for, was stopped"
                    },
                }, new NewEvent("stopped", "warning", $"wave {row.Id} was stopped", caller.Name)), cancellation).ConfigureAwait(false);
        }
        return await DescribeAsync(row, cancellation).ConfigureAwait(false);
    }

    /// <summary>What a wave sends, for a machine of it.</summary>
    /// <exception cref="StationException">The machine is not of it, or nothing is sent.</exception>
    public async Task<WavePlan> PlanAsync(string machine, string id, CancellationToken cancellation)
    {
        var row = await machines.FindAsync(machine, cancellation).ConfigureAwait(false);
        if (row?.Document.Task?.Wave?.Id != id)
            throw StationException.Of(403, "not-for-this-machine", $"the machine is not of wave {id}");
        var wave = await store.FindAsync(id, cancellation).ConfigureAwait(false);
        return wave.State == WaveState.Sending && await PlanOfAsync(wave, cancellation).ConfigureAwait(false) is { } plan ? plan
            : throw StationException.NotFound("no-such-wave", $"wave {id} is not sent now");
    }

    private string PlanFile(WaveRow row) => Path.Combine(Folder, $"{row.Id}.json");

    private async Task<WavePlan?> PlanOfAsync(WaveRow row, CancellationToken cancellation)
    {
        if (_sending.TryGetValue(row.Id, out var sending))
            return sending.Plan;
        // Another station of the same database may send it.
        if (!File.Exists(PlanFile(row)))
            return null;
        return JsonSerializer.Deserialize(await File.ReadAllBytesAsync(PlanFile(row), cancellation).ConfigureAwait(false),
            WaveStateJson.Default.WavePlan);
    }

    /// <summary>Looks after waves until it is ended.</summary>
    public async Task RunAsync(CancellationToken cancellation)
    {
        using var timer = new PeriodicTimer(s_often, clock);
        while (await timer.WaitForNextTickAsync(cancellation).ConfigureAwait(false))
        {
            try
            {
                foreach (var row in await store.OpenAsync(cancellation).ConfigureAwait(false))
                {
                    // Also those of a station that is gone.
                    if (row.Station == Own || !register.All.Contains(row.Station))
                        await TryLookAfterAsync(row, cancellation).ConfigureAwait(false);
                }
            }
            catch (System.Data.Common.DbException failure)
            {
                WaveLog.Failed(log, "", failure.Message);
            }
        }
        foreach (var sending in _sending.Values)
            await sending.DisposeAsync().ConfigureAwait(false);
    }

    // What is wrong with one keeps nobody from another.
    private async Task TryLookAfterAsync(WaveRow row, CancellationToken cancellation)
    {
        try
        {
            if (row.Station != Own)
                row = await store.ChangeAsync(row.Id, now => now with { Station = Own }, cancellation).ConfigureAwait(false);
            await LookAfterAsync(row, await machines.AllAsync(cancellation).ConfigureAwait(false), cancellation).ConfigureAwait(false);
        }
        catch (Exception failure) when (failure is StationException or VembarException or IOException or UnauthorizedAccessException
            or JsonException)
        {
            WaveLog.Failed(log, row.Id, failure.Message);
        }
    }

    private async Task LookAfterAsync(WaveRow row, List<MachineRow> all, CancellationToken cancellation)
    {
        var isTaken = false;
        foreach (var machine in all.Where(m => m.State == MachineState.Waiting && IsMeant(row, m)))
            isTaken |= await TryTakeAsync(row, machine, cancellation).ConfigureAwait(false);
        // They are looked at as they are now the next time.
        if (isTaken)
            return;
        var members = MembersOf(row, all);
        switch (row.State)
        {
            case WaveState.Waiting when MayBegin(row, members.Count(IsReady)):
                await BeginAsync(row, cancellation).ConfigureAwait(false);
                break;
            case WaveState.Sending:
                await KeepSendingAsync(row, members, cancellation).ConfigureAwait(false);
                break;
            case WaveState.Sent when members.All(m => m.Document.Task is null):
                await store.ChangeAsync(row.Id, now => now.State != WaveState.Sent ? null : now with { State = WaveState.Done },
                    cancellation)
                    .ConfigureAwait(false);
                break;
        }
    }

    private static bool IsMeant(WaveRow row, MachineRow machine) => !machine.Document.HasLeft
        && (row.Document.Machines.Count == 0 || row.Document.Machines.Contains(machine.Id))
        && (row.Document.Request.Site.Length == 0
            || machine.Document.Assignment.Site.Equals(row.Document.Request.Site, StringComparison.OrdinalIgnoreCase));

    private bool MayBegin(WaveRow row, int ready) => row.Document.Request switch
    {
        { Joined: { } count } => ready >= count,
        { At: { } at } => ready > 0 && Now >= at,
        _ => ready > 0,
    };

    private async Task<bool> TryTakeAsync(WaveRow row, MachineRow machine, CancellationToken cancellation)
    {
        if (_refused.TryGetValue((row.Id, machine.Id), out var version) && version == machine.Version)
            return false;
        var isHeld = row.State == WaveState.Waiting;
        try
        {
            var image = string.Create(CultureInfo.InvariantCulture, $"{row.Document.Archive}#{row.Document.Image}");
            await service.ApproveForWaveAsync(machine.Id, new Approval { Image = image, Accept = row.Document.Request.Accept },
                row.Document.By, new WaveHold(new WaveOrder
                {
                    Id = row.Id,
                    Group = row.Document.Group,
                    Port = row.Port,
                    Source = row.Document.Source,
                }, isHeld, isHeld ? $"waits for wave {row.Id}" : ""), cancellation).ConfigureAwait(false);
            return true;
        }
        catch (StationException refused)
        {
            var why = refused.Problem.Details is { Count: > 0 } details ? string.Join("; ", details) : refused.Message;
            var changed = await machines.ChangeAsync(machine.Id, now => now.State != MachineState.Waiting ? null
                : new MachineChange(now with
                {
                    Document = now.Document with { Remark = $"not taken into wave {row.Id}: {why}" },
                }, new NewEvent("refused", "warning", $"wave {row.Id}: {why}", row.Document.By.Name)), cancellation).ConfigureAwait(false);
            _refused[(row.Id, machine.Id)] = changed?.Version ?? machine.Version;
            return false;
        }
    }

    private static string SourceOf(WaveOptions options)
    {
        try
        {
            return new MulticastGroup(IPAddress.Parse(options.Group), options.Port, options.Interface).OwnSource().ToString().Split('%')[0];
        }
        catch (Exception failure) when (failure is SocketException or NetworkInformationException)
        {
            throw StationException.Conflict("no-multicast", $"the station cannot send to {options.Group}"
                + (options.Interface.Length > 0 ? $" by '{options.Interface}'" : "") + $": {failure.Message}",
                "Name the network interface that machines are at: `interface:` below `waves:` in station.yaml.");
        }
    }

    private async Task BeginAsync(WaveRow row, CancellationToken cancellation)
    {
        try
        {
            await MakePlanAsync(row, cancellation).ConfigureAwait(false);
        }
        catch (Exception failure) when (failure is VembarException or StationException or IOException)
        {
            await FailAsync(row, failure.Message, cancellation).ConfigureAwait(false);
            return;
        }
        await store.ChangeAsync(row.Id, now => now.State != WaveState.Waiting ? null : now with { State = WaveState.Sending }, cancellation)
            .ConfigureAwait(false);
    }

    private async Task MakePlanAsync(WaveRow row, CancellationToken cancellation)
    {
        var archive = archives.Named(row.Document.Archive);
        using var lease = await files.TakeAsync(archive, cancellation).ConfigureAwait(false);
        var plan = await Task.Run(() => WavePlanner.Make(lease.File.Source, archive.Place, row.Document.Image, clock, cancellation),
            cancellation).ConfigureAwait(false);
        Directory.CreateDirectory(Folder);
        WholeFile.Write(PlanFile(row), JsonSerializer.SerializeToUtf8Bytes(plan, WaveStateJson.Default.WavePlan));
        await store.ChangeAsync(row.Id, now => now with { Document = now.Document with { Bytes = plan.Bytes } }, cancellation)
            .ConfigureAwait(false);
    }

    // Machines go on by themselves.
    private async Task FailAsync(WaveRow row, string why, CancellationToken cancellation)
    {
        WaveLog.Failed(log, row.Id, why);
        await store.ChangeAsync(row.Id, now => !IsOpen(now) ? null
            : now with { State = WaveState.Failed, Document = now.Document with { Remark = why } }, cancellation).ConfigureAwait(false);
        await ReleaseAsync(row, MembersOf(row, await machines.AllAsync(cancellation).ConfigureAwait(false)),
            cancellation).ConfigureAwait(false);
    }

    private async Task ReleaseAsync(WaveRow row, IEnumerable<MachineRow> members, CancellationToken cancellation)
    {
        foreach (var member in members.Where(m => m.Document.IsHeld))
        {
            await machines.ChangeAsync(member.Id, now => now.Document is not { IsHeld: true, Task.Wave: { } wave } || wave.Id != row.Id
                ? null
                : new MachineChange(now with { Document = now.Document with { IsHeld = false, Remark = "" } },
                    new NewEvent("wave", "info", $"wave {row.Id} begins")), cancellation).ConfigureAwait(false);
        }
    }

    private async Task KeepSendingAsync(WaveRow row, List<MachineRow> members, CancellationToken cancellation)
    {
        await ReleaseAsync(row, members, cancellation).ConfigureAwait(false);
        if (!_sending.TryGetValue(row.Id, out var sending))
        {
            // Where it was, if this station was started anew meanwhile.
            if (await PlanOfAsync(row, cancellation).ConfigureAwait(false) is not { } plan)
            {
                await FailAsync(row, "what it sends is not known any more", cancellation).ConfigureAwait(false);
                return;
            }
            _sending[row.Id] = new WaveSending(row, plan, archives.Named(row.Document.Archive), files, settings.Options.Waves,
                members.Count,
                clock);
            return;
        }
        if (!sending.HasBegun)
            sending.MayBegin(members.All(m => m.State != MachineState.Ready));
        // Looked at once: it may end between two looks.
        var isDone = sending.IsDone;
        await store.ChangeAsync(row.Id, now => now.State != WaveState.Sending ? null : now with
        {
            State = isDone && sending.Problem.Length == 0 ? WaveState.Sent : now.State,
            Document = now.Document with
            {
                Next = sending.Next,
                Sent = sending.Sent,
                Began = now.Document.Began ?? sending.Began,
                Ended = isDone ? now.Document.Ended ?? Now : null,
            },
        }, cancellation).ConfigureAwait(false);
        if (!isDone)
            return;
        if (sending.Problem.Length > 0)
            await FailAsync(row, sending.Problem, cancellation).ConfigureAwait(false);
        _sending.TryRemove(row.Id, out _);
        await sending.DisposeAsync().ConfigureAwait(false);
        File.Delete(PlanFile(row));
    }
}
