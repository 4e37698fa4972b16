using Vembar.Common;
using Vembar.Operations.Stations.Contract;
using Vembar.Station.Database;
using Vembar.Station.Hosting;
using Vembar.Station.Problems;

namespace Vembar.Station.Machines;

/// <summary>What machines say.</summary>
public sealed partial class MachineService
{
    private static readonly TimeSpan s_longestPoll = TimeSpan.FromSeconds(20);

    /// <summary>A machine joins: it is known from now on by the key that it is given.</summary>
    /// <exception cref="StationException">It makes no sense, or somebody with that identity is there already.</exception>
    public async Task<JoinAnswer> JoinAsync(JoinRequest request, CancellationToken cancellation)
    {
        ReportChecks.Look(request.Report ?? throw StationException.Bad("bad-report", "the machine says nothing of itself"));
        var (model, profile) = ModelFinder.Find(settings.Profiles, request.Report);
        var report = ModelFinder.WithProfile(request.Report, profile);
        var identifiers = Identifiers.Of(report.Identity);
        // The one that it has stays good: it may be all that a machine kept over a power cut.
        var key = request.Key is { Length: > 0 and < 100 } own && (await store.FindByKeyAsync(Secrets.Hash(own), cancellation)
            .ConfigureAwait(false)) is { } holder && identifiers.Contains(holder.Identifier) ? own : Secrets.Make("vsm");
        for (var attempt = 0; ; attempt++)
        {
            const int Most = 5;
            var row = await store.FindByIdentifierAsync(identifiers, cancellation).ConfigureAwait(false);
            if (row is null)
            {
                row = new MachineRow
                {
                    Id = Identifiers.IdOf(identifiers[0]),
                    Identifier = identifiers[0],
                    State = MachineState.Waiting,
                    KeyHash = Secrets.Hash(key),
                    Seen = Now,
                    Document = new MachineDocument
                    {
                        Identity = report.Identity,
                        Report = report,
                        Model = model,
                        Since = Now,
                        Remark = WaitsForApproval,
                    },
                };
                if (!await store.TryAddAsync(new MachineChange(row, new NewEvent("joined", "info", $"joined for the first time: {model}")),
                    cancellation).ConfigureAwait(false))
                {
                    if (attempt < Most)
                        continue;
                    throw StationException.Of(503, "busy", "the machine cannot be noted now", "Try again.");
                }
                row = row with { Version = 1 };
            }
            else
                row = await RejoinAsync(row, request.Key, key, report, model, identifiers[0], cancellation).ConfigureAwait(false);
            board.Hear(row.Id);
            starters.Join(report.Identity.Addresses, report.Starter);
            if (row.State == MachineState.Waiting)
                await ApproveByRuleAsync(row, cancellation).ConfigureAwait(false);
            await register.LookAsync(cancellation).ConfigureAwait(false);
            return new JoinAnswer(row.Id, key, model, report.Devices, register.All);
        }
    }

    private async Task<MachineRow> RejoinAsync(MachineRow row, string? oldKey, string key, MachineReport report, string model,
        string identifier, CancellationToken cancellation)
    {
        var isSame = oldKey is not null && row.KeyHash == Secrets.Hash(oldKey);
        if (!isSame && IsPresent(row))
        {
            await store.NoteAsync(row.Id, [new NewEvent("refused", "warning",
                oldKey is null ? "somebody with the same identity wanted to join while this machine is there"
                : "somebody with the same identity and a key that is not its own wanted to join while this machine is there")],
                cancellation).ConfigureAwait(false);
            throw StationException.Conflict("machine-present",
                $"a machine with this identity was heard of {Math.Max(0, (Now - SeenAt(row)!.Value).TotalSeconds):0} s ago",
                $"If it is this one, it may join {Absent.TotalSeconds:0} s after it was last heard of.");
        }
        return await store.ChangeAsync(row.Id, now =>
        {
            // At its task, or where there is something to fill in, it goes on only if it can tell that it is the one; merely approved, it
            // may
            // also have been started anew.
            var goesOn = isSame ? now.State != MachineState.New : now.State == MachineState.Ready && now.Fills is null;
            var was = now.State switch
            {
                MachineState.Working => "it was cut off at its task, and joined without what it knew of it: approve it again",
                MachineState.Ready => "approved for somebody with its key, who joined without it: approve it again",
                MachineState.Failed => $"failed before: {now.Document.Outcome?.Problem}",
                MachineState.Done or MachineState.Checked => $"{WaitsForApproval}; it got {now.Document.Outcome?.Result?.Title} before",
                _ => WaitsForApproval,
            };
            return new MachineChange(now with
            {
                Identifier = identifier,
                KeyHash = Secrets.Hash(key),
                Seen = Now,
                State = goesOn ? now.State : MachineState.Waiting,
                Document = now.Document with
                {
                    Identity = report.Identity,
                    Report = report,
                    Model = model,
                    HasLeft = false,
                    Task = goesOn ? now.Document.Task : null,
                    Remark = goesOn ? now.Document.Remark : was,
                },
            }, new NewEvent("joined", "info", isSame ? "joined again and goes on" : $"joined: {model}"));
        }, cancellation).ConfigureAwait(false) ?? throw Gone(row);
    }

    private async Task ApproveByRuleAsync(MachineRow row, CancellationToken cancellation)
    {
        var rule = settings.Options.Approve;
        if (rule == ApprovalRule.Never || rule == ApprovalRule.Known && !row.Document.IsListed
            || row.Document.Assignment.Image.Length == 0 && settings.Options.Image.Length == 0)
            return;
        try
        {
            await ApproveAsync(row.Id, new Approval { Version = row.Version }, new Caller($"rule: {rule.ToString().ToLowerInvariant()}",
                Role.Technician), begin: true, null, cancellation).ConfigureAwait(false);
        }
        catch (Exception failure) when (failure is StationException or VembarException)
        {
            var why = failure is StationException { Problem: { Details.Count: > 0 } problem } ? string.Join("; ", problem.Details)
                : failure.Message;
            await store.ChangeAsync(row.Id, now => now.State != MachineState.Waiting ? null : new MachineChange(now with
            {
                Document = now.Document with { Remark = $"not approved by rule: {why}" },
            }, new NewEvent("refused", "warning", why, "rule")), cancellation).ConfigureAwait(false);
        }
    }

    /// <summary>What a machine that asks is to do; answered when its state is another one than it knows of, or after a while.</summary>
    /// <param name="machine">The machine.</param>
    /// <param name="known">The state that it knows of; null for being told at once.</param>
    /// <param name="cancellation">Ends the waiting.</param>
    public async Task<PollAnswer> PollAsync(string machine, MachineState? known, CancellationToken cancellation)
    {
        board.Hear(machine);
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        limit.CancelAfter(s_longestPoll);
        while (true)
        {
            var next = feed.Next(machine);
            var row = await store.FindAsync(machine, cancellation).ConfigureAwait(false)
                ?? throw StationException.Of(401, "unknown-machine", "the station does not know this machine any more",
                "Let it join again.");
            var hasTask = row.State is MachineState.Ready or MachineState.Working && row.Document.Task is not null
                && !row.Document.IsHeld;
            if (known != row.State || hasTask || limit.IsCancellationRequested)
                return new PollAnswer(row.State, row.Document.Remark, hasTask ? row.Document.Task! with
                {
                    Fill = row.Fills ?? new Dictionary<string, string>(),
                    UserFiles = row.Document.Task.UserFiles is { } keep ? keep with { Kept = row.Document.Kept } : null,
                } : null, register.All);
            await next.WaitAsync(limit.Token).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            if (cancellation.IsCancellationRequested)
                return new PollAnswer(row.State, row.Document.Remark, null, register.All);
            board.Hear(machine);
        }
    }

    /// <summary>A machine says that it leaves.</summary>
    public async Task LeaveAsync(string machine, CancellationToken cancellation)
    {
        await store.ChangeAsync(machine, row => new MachineChange(row with { Document = row.Document with { HasLeft = true } },
            new NewEvent("left", "info", "left")), cancellation).ConfigureAwait(false);
    }

    /// <summary>What a machine tells of its task. A report that comes late, or again, changes nothing.</summary>
    /// <exception cref="StationException">It makes no sense.</exception>
    public async Task<TaskReportAnswer> ReportAsync(string machine, TaskReport report, CancellationToken cancellation)
    {
        ReportChecks.Look(report);
        board.Hear(machine);
        var row = await store.FindAsync(machine, cancellation).ConfigureAwait(false)
            ?? throw StationException.Of(401, "unknown-machine", "the station does not know this machine any more", "Let it join again.");
        var isOwn = row.Document.Task?.Id == report.Task;
        var events = report.Events.Select(e => new NewEvent("log", e.Level, e.Text, Source: $"{report.Task}/{e.Number}")).ToList();
        if (isOwn && report.Progress is { } progress && report.Outcome is null)
            board.Note(machine, report.Task, report.Number, progress);
        foreach (var said in isOwn ? report.Kept ?? [] : [])
            archives.DemandKept(row.Id, said);
        if (isOwn && (row.State == MachineState.Ready || report.Outcome is not null || report.Kept is not null))
            await AdvanceAsync(machine, report, events, cancellation).ConfigureAwait(false);
        else if (events.Count > 0)
            await store.NoteAsync(machine, events, cancellation).ConfigureAwait(false);
        return new TaskReportAnswer(isOwn);
    }

    private Task<MachineRow?> AdvanceAsync(string machine, TaskReport report, List<NewEvent> events, CancellationToken cancellation) =>
        store.ChangeAsync(machine, row =>
        {
            if (row.Document.Task is not { } task || task.Id != report.Task)
                return new MachineChange(row, events);
            if (report.Kept is { } kept)
                row = row with { Document = row.Document with { Kept = kept } };
            if (report.Outcome is not { } outcome)
                return new MachineChange(row with
                {
                    State = MachineState.Working,
                    // It has them now; nobody else is to.
                    Fills = null,
                }, row.State == MachineState.Ready ? [.. events, new NewEvent("began", "info", task.Title,
                    Source: $"{task.Id}/began")] : events);
            var state = !outcome.Done ? MachineState.Failed : outcome.Result?.IsChecked == true ? MachineState.Checked
                : outcome.Result?.Checks.Count > 0 ? MachineState.Failed : MachineState.Done;
            var wrong = outcome.Result?.Checks.Where(c => !c.IsSo && c.Severity != "note").Select(c => c.Text).ToList() ?? [];
            var remark = !outcome.Done ? outcome.Problem
                : state == MachineState.Failed ? $"it is not as expected: {string.Join("; ", wrong)}" : "";
            return new MachineChange(row with
            {
                State = state,
                Fills = null,
                Document = row.Document with
                {
                    Task = null,
                    LastTask = task,
                    Outcome = outcome,
                    Remark = remark,
                    Kept = outcome.Done ? [] : row.Document.Kept,
                },
            }, [.. events, new NewEvent(state == MachineState.Failed ? "failed" : "done", state == MachineState.Failed ? "error" : "info",
                remark.Length > 0 ? $"{task.Title}: {remark}" : task.Title, Source: $"{task.Id}/end")]);
        }, cancellation);
}
