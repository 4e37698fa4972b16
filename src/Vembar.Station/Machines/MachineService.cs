using System.Globalization;
using Vembar.Common;
using Vembar.Operations.Stations.Contract;
using Vembar.Station.Archives;
using Vembar.Station.Database;
using Vembar.Station.Hosting;
using Vembar.Station.Problems;
using Vembar.Windows.Servicing.Answers;

namespace Vembar.Station.Machines;

/// <summary>What machines say, and what people do with them: their way from the first time that they are seen to the end.</summary>
public sealed partial class MachineService(MachineStore store, ProgressBoard board, ChangeFeed feed, StationArchives archives,
    StationSettings settings, StationRegister register, StarterChoice starters, TimeProvider clock) : IDisposable
{
    /// <summary>Who was not heard of for so long is taken for gone.</summary>
    public static readonly TimeSpan Absent = TimeSpan.FromSeconds(45);

    private const int KeptRequests = 8;
    private readonly SemaphoreSlim _naming = new(1);
    /// <inheritdoc/>
    public void Dispose() => _naming.Dispose();

    private const string WaitsForApproval = "waits for somebody to approve it";

    private DateTime Now => clock.GetUtcNow().UtcDateTime;

    private DateTime? SeenAt(MachineRow row) => board.Heard(row.Id) is { } heard && !(row.Seen > heard) ? heard : row.Seen;

    private bool IsPresent(MachineRow row) => !row.Document.HasLeft && Now - SeenAt(row) < Absent;

    /// <summary>A machine for people.</summary>
    public MachineInfo Describe(MachineRow row, (string Task, TaskProgress Progress)? progress)
    {
        var document = row.Document;
        var task = document.Task;
        return new MachineInfo
        {
            Id = row.Id,
            Version = row.Version,
            State = row.State,
            Identity = document.Identity,
            Model = document.Model,
            Assignment = document.Assignment with
            {
                Fills = [.. row.Fills?.Keys.Order(StringComparer.Ordinal) ?? Enumerable.Empty<string>()],
            },
            Task = task?.Kind,
            Title = task?.Title ?? document.Outcome?.Result?.Title ?? "",
            Progress = row.State == MachineState.Working && progress is var (of, done) && of == task?.Id ? done : null,
            Remark = document.Remark,
            Seen = SeenAt(row),
            Since = document.Since,
        };
    }

    /// <summary>All machines; those that wait for somebody first, then those at work, then the others by name.</summary>
    public async Task<IReadOnlyList<MachineInfo>> ListAsync(CancellationToken cancellation)
    {
        var progress = await board.AllAsync(cancellation).ConfigureAwait(false);
        return [.. (await store.AllAsync(cancellation).ConfigureAwait(false))
            .Select(r => Describe(r, progress.TryGetValue(r.Id, out var own) ? own : null))
            .OrderBy(m => m.State switch { MachineState.Waiting => 0, MachineState.Failed => 1, MachineState.Working => 2,
                MachineState.Ready => 3, MachineState.Stopped => 4, MachineState.New => 6, _ => 5 })
            .ThenBy(m => m.Assignment.Name, StringComparer.OrdinalIgnoreCase).ThenBy(m => m.Id, StringComparer.Ordinal)];
    }

    private async Task<MachineInfo> InfoAsync(MachineRow row, CancellationToken cancellation) =>
        Describe(row, await board.FindAsync(row.Id, cancellation).ConfigureAwait(false));

    /// <summary>A machine with all that is known of it.</summary>
    /// <exception cref="StationException">There is none.</exception>
    public async Task<MachineDetail> DetailAsync(string named, CancellationToken cancellation)
    {
        var row = await store.NamedAsync(named, cancellation).ConfigureAwait(false);
        IReadOnlyList<DeviceDriver> drivers = [];
        IReadOnlyList<Refusal> refusals = [];
        var image = row.Document.Assignment.Image is { Length: > 0 } own ? own : settings.Options.Image;
        if (row.Document.Report is { } report && image.Length > 0)
        {
            try
            {
                var fit = await archives.FitAsync(image, report, row.Document.Assignment.Layout, cancellation).ConfigureAwait(false);
                (drivers, refusals) = (fit.Drivers, fit.Refusals);
            }
            catch (VembarException problem)
            {
                refusals = [new Refusal(problem.Code, problem.Message, false)];
            }
        }
        return new MachineDetail(await InfoAsync(row, cancellation).ConfigureAwait(false), row.Document.Report, drivers, refusals,
            row.Document.Outcome);
    }

    // What a request does that came before, because its answer was lost.
    private static bool WasDone(MachineRow row, string? request) => request is not null && row.Document.Requests.Contains(request);

    private static MachineDocument With(MachineDocument document, string? request) => request is null ? document
        : document with { Requests = [request, .. document.Requests.Take(KeptRequests - 1)] };

    /// <summary>Approves a machine, or says what it is to become.</summary>
    /// <param name="named">The machine.</param>
    /// <param name="approval">What it is to become.</param>
    /// <param name="caller">Who wants it.</param>
    /// <param name="begin">Whether it may begin.</param>
    /// <param name="request">What makes it the same request when it comes again; null for nothing.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <exception cref="StationException">Something is in the way.</exception>
    public Task<MachineInfo> ApproveAsync(string named, Approval approval, Caller caller, bool begin, string? request,
        CancellationToken cancellation) => ApproveAsync(named, approval, caller, begin, request, null, cancellation);

    /// <summary>Approves a machine for a wave.</summary>
    /// <exception cref="StationException">Something is in the way.</exception>
    public Task<MachineInfo> ApproveForWaveAsync(string named, Approval approval, Caller caller, WaveHold wave,
        CancellationToken cancellation) => ApproveAsync(named, approval, caller, begin: true, null, wave, cancellation);

    private async Task<MachineInfo> ApproveAsync(string named, Approval approval, Caller caller, bool begin, string? request,
        WaveHold? wave, CancellationToken cancellation)
    {
        const int Most = 100;
        for (var attempt = 0; ; attempt++)
        {
            try
            {
                // One after the other where names are made: all who come at once would take the same one, and all but one try again.
                if (approval?.Name is not null || settings.Options.Names.Length == 0)
                    return await ApproveOnceAsync(named, approval!, caller, begin, request, wave, cancellation).ConfigureAwait(false);
                await _naming.WaitAsync(cancellation).ConfigureAwait(false);
                try
                {
                    return await ApproveOnceAsync(named, approval!, caller, begin, request, wave, cancellation).ConfigureAwait(false);
                }
                finally
                {
                    _naming.Release();
                }
            }
            catch (StationException changed) when (changed.Problem.Code == ChangedMeanwhile && approval?.Version is null && attempt < Most)
            {
                // It said something of itself meanwhile; whoever did not look at a certain state of it means the present one.
            }
            catch (StationException taken) when (taken.Problem.Code == "name-taken" && approval?.Name is null && attempt < Most
                && settings.Options.Names.Length > 0)
            {
                // Another machine got the name that was free a moment ago; unless it is this one's own, the pattern has another.
                if ((await store.NamedAsync(named, cancellation).ConfigureAwait(false)).Document.Assignment.Name.Length > 0)
                    throw;
            }
        }
    }

    private async Task<MachineInfo> ApproveOnceAsync(string named, Approval approval, Caller caller, bool begin, string? request,
        WaveHold? wave, CancellationToken cancellation)
    {
        approval = OrderChecks.Look(approval);
        var row = await store.NamedAsync(named, cancellation).ConfigureAwait(false);
        if (WasDone(row, request))
            return await InfoAsync(row, cancellation).ConfigureAwait(false);
        if (approval.Version is { } meant && meant != row.Version)
            throw Meanwhile(row);
        if (row.State is MachineState.Working or MachineState.Ready && begin)
            throw StationException.Conflict("already-approved",
                $"{row.DisplayName} is {(row.State == MachineState.Ready ? "approved" : "at work")} already: {row.Document.Task?.Title}",
                "Stop it first, if it is to become something else.");
        var assignment = Assigned(row, approval);
        var fills = approval.Fill ?? row.Fills;
        MachineTask? task = null;
        if (begin)
        {
            if (row.Document.Report is null)
                throw StationException.Conflict("never-seen", $"{row.DisplayName} has never joined, so nothing is known of it",
                    "Say what it is to become with `vembar station assign`; approve it when it has joined.");
            assignment = await NamedAsync(row, assignment, cancellation).ConfigureAwait(false);
            task = await TaskOfAsync(row, assignment, approval.Accept, caller, cancellation).ConfigureAwait(false);
            if (wave is not null)
                task = task with { Wave = wave.Order };
        }
        var changed = await store.ChangeAsync(row.Id,
            now => WasDone(now, request) ? null : now.Version != row.Version ? throw Meanwhile(now)
            : new MachineChange(now with
            {
                State = begin ? MachineState.Ready : now.State,
                Fills = fills,
                Document = With(now.Document, request) with
                {
                    Assignment = assignment,
                    Task = task ?? now.Document.Task,
                    IsHeld = begin ? wave?.IsHeld == true : now.Document.IsHeld,
                    Remark = begin ? wave?.Remark ?? "" : now.Document.Remark,
                },
            }, new NewEvent(begin ? "approved" : "assigned", "info", Says(assignment, task, approval.Accept), caller.Name)), cancellation)
            .ConfigureAwait(false) ?? throw Gone(row);
        return await InfoAsync(changed, cancellation).ConfigureAwait(false);
    }

    private static string Says(Assignment assignment, MachineTask? task, IReadOnlyList<string> accepted)
    {
        var text = task is null ? $"is to become {(assignment.Image.Length > 0 ? assignment.Image : "whatever it is given")}"
            : $"gets {task.Title}";
        return text + (assignment.Name.Length > 0 ? $" as {assignment.Name}" : "")
            + (task?.UserFiles is not null ? ", and keeps the files of its users" : "")
            + (accepted.Count > 0 ? $", although: {string.Join(", ", accepted)}" : "");
    }

    private const string ChangedMeanwhile = "changed-meanwhile";

    private static StationException Meanwhile(MachineRow now) => StationException.Conflict(ChangedMeanwhile,
        $"{now.DisplayName} was changed by somebody else meanwhile: it is {Word(now.State)} now", "Look at it again.");

    private static StationException Gone(MachineRow row) =>
        StationException.NotFound("no-such-machine", $"{row.DisplayName} was taken off the list meanwhile");

    private static string Word(MachineState state) => state.ToString().ToLowerInvariant();

    private Assignment Assigned(MachineRow row, Approval approval)
    {
        var before = row.Document.Assignment;
        var assignment = before with
        {
            Name = approval.Name?.Trim() ?? before.Name,
            Site = approval.Site?.Trim() ?? before.Site,
            Image = approval.Image?.Trim() ?? before.Image,
            Layout = approval.Layout?.Trim() ?? before.Layout,
            Expectations = approval.Expectations?.Trim() ?? before.Expectations,
            UserFiles = approval.UserFiles?.Trim() ?? before.UserFiles,
            Starter = approval.Starter?.Trim() ?? before.Starter,
        };
        OrderChecks.UserFiles(assignment.UserFiles);
        if (assignment.Name.Length > 0 && (assignment.Name is "*" || assignment.Name.Contains('{')
            || AnswerFile.ComputerNameProblem(assignment.Name) is not null))
            throw StationException.Bad("bad-computer-name", AnswerFile.ComputerNameProblem(assignment.Name)
                ?? $"'{assignment.Name}' cannot be a computer's name", "Use up to 15 letters, digits and hyphens, not digits alone.");
        if (assignment.Layout is not ("" or "uefi" or "bios"))
            throw StationException.Bad("bad-layout", $"'{assignment.Layout}' is not a layout: uefi or bios is wanted");
        if (approval.Starter is { Length: > 0 } starter && !starters.IsKnown(starter.Trim()))
            throw StationException.NotFound("no-such-starter", $"the station has no starter '{starter}'",
                "Name one of its versions, production or pilot.");
        const int Longest = 300;
        if (assignment.Starter.Length > Longest || assignment.Starter.Any(char.IsControl) || assignment.Site.Length > Longest
            || assignment.Image.Length > Longest
            || (assignment.Site + assignment.Image).Any(char.IsControl))
            throw StationException.Bad("bad-text", "a site or image is a short text in one line");
        return assignment;
    }

    private static string NewTask() => Guid.NewGuid().ToString("N");

    // A name from the pattern, where nobody gave one.
    private async Task<Assignment> NamedAsync(MachineRow row, Assignment assignment, CancellationToken cancellation)
    {
        if (assignment.Name.Length > 0)
        {
            if (await store.FindByNameAsync(assignment.Name, cancellation).ConfigureAwait(false) is { } other && other.Id != row.Id)
                throw StationException.Conflict("name-taken", $"another machine is called '{assignment.Name}' ({other.Id})",
                    "Choose another name.");
            return assignment;
        }
        if (settings.Options.Names.Length == 0)
            throw StationException.Bad("no-name", $"{row.DisplayName} has no name yet", "Give it one with --name.");
        var taken = await store.NamesAsync(cancellation).ConfigureAwait(false);
        var name = NamePattern.Make(settings.Options.Names, row.Document.Identity, row.Document.Model, assignment.Site,
            n => !taken.Contains(n.ToUpperInvariant()))
            ?? throw StationException.Conflict("no-name", $"'{settings.Options.Names}' gives no name that is free for {row.DisplayName}",
            "Give it one with --name.");
        return assignment with { Name = name };
    }

    private async Task<MachineTask> TaskOfAsync(MachineRow row, Assignment assignment, IReadOnlyList<string> accepted, Caller caller,
        CancellationToken cancellation)
    {
        var image = assignment.Image.Length > 0 ? assignment.Image : settings.Options.Image;
        if (image.Length == 0)
            throw StationException.Bad("no-image", $"nobody said which image {row.DisplayName} gets", "Say it with --image NAME@CHANNEL.");
        var (archive, which) = archives.Split(image);
        var fit = await archives.FitAsync(image, row.Document.Report!, assignment.Layout, cancellation).ConfigureAwait(false);
        var refusals = fit.Refusals.ToList();
        var title = string.Create(CultureInfo.InvariantCulture, $"{archive.Name}#{fit.Image.Number} {fit.Image.Title}");
        if (row.Document.Outcome is { Done: true, Result: { } result } && result.Root == fit.Image.Root.ToString())
            refusals.Add(new Refusal("already-done", $"{row.DisplayName} has {title} already", true));
        refusals.RemoveAll(r => r.CanBeAccepted && accepted.Contains(r.Code)
            && (caller.Role == Role.Administrator || r.Code == "already-done"));
        if (refusals.Count > 0)
            throw Refused(row, title, refusals, accepted, caller);
        return new MachineTask
        {
            Id = NewTask(),
            Kind = TaskKind.Deploy,
            Archive = $"/archives/{archive.Name}",
            Image = fit.Image.Number,
            Root = fit.Image.Root.ToString(),
            Title = title,
            ComputerName = assignment.Name,
            Layout = fit.Layout,
            Expectations = archives.Expectations(assignment.Expectations),
            Signers = archives.SignersText(),
            UserFiles = (assignment.UserFiles.Length > 0 ? assignment.UserFiles : settings.Options.UserFiles) == "keep"
                ? new KeepOrder($"/archives/{archives.UserFilesOf(row.Id).Name}", assignment.Name, settings.KeepRules, []) : null,
        };
    }

    private static StationException Refused(MachineRow row, string title, List<Refusal> refusals, IReadOnlyList<string> accepted,
        Caller caller)
    {
        var hint = refusals.All(r => r.CanBeAccepted)
            ? caller.Role == Role.Administrator || refusals.All(r => r.Code == "already-done")
            ? $"Fix it, or accept it with {string.Join(' ', refusals.Select(r => $"--accept {r.Code}"))}."
            : accepted.Count > 0 ? "An administrator alone can set that aside." : "Fix it, or ask an administrator to set it aside."
            : "Choose another image, or fix it.";
        return new StationException(new Problem
        {
            Status = 409,
            Code = "refused",
            Title = refusals is [var only] ? $"{row.DisplayName} is not given {title}: {only.Text}"
                : $"{row.DisplayName} is not given {title}, for {refusals.Count} reasons",
            Hint = hint,
            Details = refusals.Count > 1 ? [.. refusals.Select(r => $"{r.Text} ({r.Code})")] : [],
            Refusals = refusals,
        });
    }

    /// <summary>Stops a machine: it does nothing more of its task.</summary>
    public Task<MachineInfo> StopAsync(string named, Caller caller, CancellationToken cancellation) => ChangeAsync(named, row =>
        row.State is not (MachineState.Ready or MachineState.Working) ? throw StationException.Conflict("nothing-to-stop",
            $"{row.DisplayName} is {Word(row.State)}, so there is nothing to stop")
        : new MachineChange(row with
        {
            State = MachineState.Stopped,
            Document = row.Document with { Task = null, LastTask = row.Document.Task, Remark = $"stopped by {caller.Name}" },
        }, new NewEvent("stopped", "warning", $"{row.Document.Task?.Title} was stopped", caller.Name)), cancellation);

    /// <summary>Has a machine do its last task again.</summary>
    public async Task<MachineInfo> RetryAsync(string named, Caller caller, string? request, CancellationToken cancellation)
    {
        var row = await store.NamedAsync(named, cancellation).ConfigureAwait(false);
        if (row.State is not (MachineState.Failed or MachineState.Stopped or MachineState.Waiting) && !WasDone(row, request))
            throw StationException.Conflict("nothing-to-retry",
                $"{row.DisplayName} is {Word(row.State)}, so there is nothing to try again");
        if (row.Document.LastTask is not { Kind: TaskKind.Capture } capture)
            return await ApproveAsync(row.Id, new Approval(), caller, begin: true, request, cancellation).ConfigureAwait(false);
        return await ChangeAsync(row.Id, now => WasDone(now, request) ? null : now.Version != row.Version ? throw Meanwhile(now)
            : new MachineChange(now with
            {
                State = MachineState.Ready,
                Document = With(now.Document, request) with { Task = capture with { Id = NewTask() }, IsHeld = false, Remark = "" },
            }, new NewEvent("capture", "info", $"is to be captured as {capture.Title} again", caller.Name)), cancellation)
            .ConfigureAwait(false);
    }

    /// <summary>Takes a machine off the list.</summary>
    public async Task<MachineInfo> ForgetAsync(string named, Caller caller, CancellationToken cancellation)
    {
        var row = await store.NamedAsync(named, cancellation).ConfigureAwait(false);
        if (row.State == MachineState.Working && IsPresent(row))
            throw StationException.Conflict("at-work", $"{row.DisplayName} is at work", "Stop it first.");
        await store.RemoveAsync(row.Id, new NewEvent("forgotten", "info", $"{row.DisplayName} was taken off the list", caller.Name),
            cancellation).ConfigureAwait(false);
        return Describe(row, null);
    }

    /// <summary>Has a machine's disk captured.</summary>
    public async Task<MachineInfo> CaptureAsync(string named, CaptureOrder order, Caller caller, string? request,
        CancellationToken cancellation)
    {
        const int Most = 10;
        for (var attempt = 0; ; attempt++)
        {
            try
            {
                return await CaptureOnceAsync(named, order, caller, request, cancellation).ConfigureAwait(false);
            }
            catch (StationException changed) when (changed.Problem.Code == ChangedMeanwhile && attempt < Most)
            {
                // It said something of itself meanwhile.
            }
        }
    }

    private async Task<MachineInfo> CaptureOnceAsync(string named, CaptureOrder order, Caller caller, string? request,
        CancellationToken cancellation)
    {
        var row = await store.NamedAsync(named, cancellation).ConfigureAwait(false);
        if (WasDone(row, request))
            return await InfoAsync(row, cancellation).ConfigureAwait(false);
        OrderChecks.Look(order);
        if (row.Document.Report is null)
            throw StationException.Conflict("never-seen", $"{row.DisplayName} has never joined", "Start it into the starter first.");
        if (row.State is MachineState.Working or MachineState.Ready)
            throw StationException.Conflict("at-work", $"{row.DisplayName} is at something else: {row.Document.Task?.Title}",
                "Stop it first.");
        var archive = archives.Writable(order.Archive);
        var task = new MachineTask
        {
            Id = NewTask(),
            Kind = TaskKind.Capture,
            Archive = $"/archives/{archive.Name}",
            Title = order.Name,
            Edition = order.Edition,
            Version = order.Version,
            AcceptUnready = order.AcceptUnready,
        };
        return await ChangeAsync(row.Id, now => WasDone(now, request) ? null : now.Version != row.Version ? throw Meanwhile(now)
            : new MachineChange(now with
            {
                State = MachineState.Ready,
                Document = With(now.Document, request) with { Task = task, IsHeld = false, Remark = "" },
            }, new NewEvent("capture", "info", $"is to be captured as {order.Name} into {archive.Name}", caller.Name)), cancellation)
            .ConfigureAwait(false);
    }

    /// <summary>Adds machines and says what they are to become.</summary>
    public async Task<ImportAnswer> ImportAsync(IReadOnlyList<ImportRow> rows, Caller caller, CancellationToken cancellation)
    {
        OrderChecks.Look(rows);
        var problems = new List<string>();
        for (var at = 0; at < rows.Count; at++)
        {
            if (Identifiers.Parse(rows[at].Identifier) is null)
                problems.Add($"row {at + 1}: '{rows[at].Identifier}' is no UUID, serial number or network address");
            if (rows[at].Name.Length > 0 && AnswerFile.ComputerNameProblem(rows[at].Name) is { } problem)
                problems.Add($"row {at + 1}: {problem}");
        }
        foreach (var twice in rows.Where(r => r.Name.Length > 0).GroupBy(r => r.Name, StringComparer.OrdinalIgnoreCase)
            .Where(g => g.Count() > 1))
            problems.Add($"two machines are to be called '{twice.Key}'");
        foreach (var twice in rows.GroupBy(r => Identifiers.Parse(r.Identifier) ?? "").Where(g => g.Key.Length > 0 && g.Count() > 1))
            problems.Add($"{twice.Key} stands there twice");
        foreach (var row in problems.Count == 0 ? rows.Where(r => r.Name.Length > 0) : [])
        {
            if (await store.FindByNameAsync(row.Name, cancellation).ConfigureAwait(false) is { } holder
                && !Identifiers.Of(holder.Document.Identity).Append(holder.Identifier).Contains(Identifiers.Parse(row.Identifier)))
                problems.Add($"another machine is called '{row.Name}' already ({holder.Id})");
        }
        foreach (var starter in rows.Select(r => r.Starter).OfType<string>().Distinct().Where(s => s.Length > 0 && !starters.IsKnown(s)))
            problems.Add($"the station has no starter '{starter}'");
        if (problems.Count > 0)
            throw StationException.Of(422, "bad-list", $"the list has {problems.Count} mistakes; nothing of it was taken", "Mend them.",
                problems);
        int added = 0, changed = 0, same = 0;
        foreach (var row in rows)
        {
            var identifier = Identifiers.Parse(row.Identifier)!;
            var assignment = new Assignment
            {
                Name = row.Name,
                Site = row.Site,
                Image = row.Image,
                UserFiles = row.UserFiles,
                Starter = row.Starter ?? "",
            };
            var fills = row.Fill is { Count: > 0 } ? row.Fill : null;
            if (await FindListedAsync(identifier, cancellation).ConfigureAwait(false) is { } known)
            {
                var before = known.Document.Assignment;
                if (before.Name == row.Name && before.Site == row.Site && before.Image == row.Image && before.UserFiles == row.UserFiles
                    && (row.Starter ?? before.Starter) == before.Starter && fills is null
                    && known.Document.IsListed)
                {
                    same++;
                    continue;
                }
                changed++;
                await store.ChangeAsync(known.Id, now => new MachineChange(now with
                {
                    Fills = fills ?? now.Fills,
                    Document = now.Document with
                    {
                        IsListed = true,
                        Assignment = now.Document.Assignment with
                        {
                            Name = row.Name,
                            Site = row.Site,
                            Image = row.Image,
                            UserFiles = row.UserFiles,
                            Starter = row.Starter ?? now.Document.Assignment.Starter,
                        },
                    },
                }, new NewEvent("assigned", "info", Says(assignment, null, []), caller.Name)), cancellation).ConfigureAwait(false);
                continue;
            }
            var isNew = await store.TryAddAsync(new MachineChange(new MachineRow
            {
                Id = Identifiers.IdOf(identifier),
                Identifier = identifier,
                State = MachineState.New,
                Fills = fills,
                Document = new MachineDocument
                {
                    Assignment = assignment,
                    IsListed = true,
                    Since = Now,
                    Identity = identifier.Split(':', 2) switch
                    {
                        ["uuid", var uuid] => new MachineIdentity { Uuid = uuid },
                        ["serial", var serial] => new MachineIdentity { Serial = serial },
                        [_, var address] => new MachineIdentity { Addresses = [address] },
                        _ => new MachineIdentity(),
                    },
                },
            }, new NewEvent("listed", "info", Says(assignment, null, []), caller.Name)), cancellation).ConfigureAwait(false);
            added += isNew ? 1 : throw StationException.Conflict("changed-meanwhile",
                $"somebody else added {row.Identifier} or gave its name away meanwhile; {added} rows before it were taken",
                "Import it again.");
        }
        return new ImportAnswer(added, changed, same);
    }

    // A machine may be known by its UUID, and stand in a list by its serial number.
    private async Task<MachineRow?> FindListedAsync(string identifier, CancellationToken cancellation) =>
        await store.FindByIdentifierAsync([identifier], cancellation).ConfigureAwait(false)
        ?? (await store.AllAsync(cancellation).ConfigureAwait(false))
        .FirstOrDefault(r => Identifiers.Of(r.Document.Identity).Contains(identifier));

    /// <summary>Notes that somebody woke a machine.</summary>
    public async Task<MachineRow> NoteWakeAsync(string named, Caller caller, CancellationToken cancellation)
    {
        var row = await store.NamedAsync(named, cancellation).ConfigureAwait(false);
        if (row.Document.Identity.Addresses.Count == 0 && settings.Options.Power.Count == 0)
            throw StationException.Conflict("no-address", $"no network address of {row.DisplayName} is known", "It has to join once.");
        await store.NoteAsync(row.Id, [new NewEvent("wake", "info", row.Document.Identity.Addresses is [var first, ..]
            ? $"was called at {first}" : "was called by its site's command", caller.Name)], cancellation).ConfigureAwait(false);
        return row;
    }

    private async Task<MachineInfo> ChangeAsync(string named, Func<MachineRow, MachineChange?> change, CancellationToken cancellation)
    {
        var row = await store.NamedAsync(named, cancellation).ConfigureAwait(false);
        var changed = await store.ChangeAsync(row.Id, change, cancellation).ConfigureAwait(false) ?? throw Gone(row);
        return await InfoAsync(changed, cancellation).ConfigureAwait(false);
    }
}
