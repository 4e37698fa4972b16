using System.Globalization;
using Vembar.Common;
using Vembar.Common.Formats;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Operations.Capture;
using Vembar.Operations.Copy;
using Vembar.Operations.Diff;
using Vembar.Operations.Expect;
using Vembar.Operations.Mark;
using Vembar.Operations.Ready;
using Vembar.Operations.Service;
using Vembar.Operations.Sign;
using Vembar.Operations.Sites;
using Vembar.Store.Format;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Vembar.Store.Writing;
using Vembar.Volumes.Disks;
using Vembar.Volumes.Machines;
using Vembar.Windows.Servicing;

namespace Vembar.Operations.Builds;

/// <summary>A run: does step after step, and keeps how far it is. All is made in an archive of the run's own, which stands on the
/// recipe's; that one changes once.</summary>
internal sealed class BuildExecution
{
    private readonly OperationHost _host;
    private readonly BuildRequest _request;
    private readonly BuildPlan _plan;
    private readonly BuildRun _run;
    private readonly BuildLog _log;
    private readonly BuildState? _resumed;
    private readonly System.Diagnostics.Stopwatch _clock = System.Diagnostics.Stopwatch.StartNew();
    private BuildState _state;
    // The image in the archive, where an earlier run put it there, or this one before it was broken off.
    private ImageRecord? _there;
    private int _image;

    public BuildExecution(OperationHost host, BuildRequest request, BuildPlan plan, BuildRun run, BuildState? resumed)
    {
        (_host, _request, _plan, _run, _resumed) = (host, request, plan, run, resumed);
        _there = plan.Reused;
        _log = new BuildLog(run.At("log.jsonl"), host.Clock);
        _state = new BuildState
        {
            Recipe = plan.Recipe.Path,
            Name = plan.Recipe.Name,
            Run = run.Name,
            Title = plan.Recipe.Title,
            By = host.By,
            Began = resumed?.Began ?? host.Now,
            Archive = plan.Recipe.Archive,
            ImageName = plan.Recipe.ImageName,
            Version = plan.Version,
            Image = plan.Reused?.Number,
            Root = plan.Reused?.Root.ToString() ?? "",
            Steps = plan.Steps,
            Seconds = resumed?.Seconds ?? 0,
        };
    }

    private Recipe Recipe => _plan.Recipe;

    // The recipe's archive, once there is one.
    private string? Base => _host.Files.Exists(Recipe.Archive) ? Recipe.Archive : null;

    private ArchiveLocation Work => new(_run.Archive, Base is { } there ? [there] : []);

    private string Disk => Recipe.Prepare is null ? Recipe.From : _run.Overlay;

    private DiskReading Reading => Recipe.Prepare is null ? DiskReading.Usual : VirtualMachine.ReadingOf(Recipe.From);

    // The image that is looked at: the run's, or that of an earlier run.
    private ImageReference Image => _there is { } there ? new ImageReference(Recipe.Archive, Text(there.Number))
        : new ImageReference(Work, Text(_image));

    // What a step made is not as it should be.
    private const string Unfit = "not-in-order";

    private static VembarException NotInOrder(string message, string hint, IReadOnlyList<string> details) =>
        VembarException.Input(Unfit, message, hint, details);

    private static string Text(int number) => number.ToString(CultureInfo.InvariantCulture);

    public async Task<BuildResult> RunAsync(IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        File.WriteAllText(_run.At("recipe.yaml"), Recipe.Expanded);
        _log.Write("", _resumed is null ? $"begins by {_host.By}" : $"goes on by {_host.By}");
        Keep();
        if (_there is null)
            TakeUp();
        await BeginAsync(progress, cancellation).ConfigureAwait(false);
        VembarException? failure = null;
        var later = new List<VembarException>();
        for (var at = 0; at < _state.Steps.Count && failure is null; at++)
        {
            var step = _state.Steps[at];
            if (step.IsThere || step.Name == BuildStepName.Tell)
                continue;
            failure = await DoAsync(at, new StepProgress(progress, Label(at)), cancellation)
                .ConfigureAwait(false);
            // The image is in the archive: one site that is away does not keep the others from it.
            if (failure is not null && step.Name == BuildStepName.Sync)
            {
                later.Add(failure);
                failure = null;
            }
        }
        End(failure, failure ?? (later.Count > 0 ? later[0] : null));
        await TellAsync(later, cancellation).ConfigureAwait(false);
        if (_state.Outcome == BuildOutcome.Done)
            await PutAwayAsync(progress, cancellation).ConfigureAwait(false);
        return new BuildResult(_state, _run.Folder, failure ?? (later.Count > 0 ? later[0] : null), failure?.Code == Unfit);
    }

    // From what an earlier run kept, as long as that is whole.
    private async Task BeginAsync(IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        if (_plan.Start is not { } at)
            return;
        try
        {
            _image = await _plan.Kept.TakeAsync(_state.Steps[at].Inputs, Work, StepVersion(_state.Steps[at].Name), progress, cancellation)
                .ConfigureAwait(false);
            Set(at, _state.Steps[at] with { Image = _image });
        }
        catch (VembarException problem)
        {
            _log.Write("", $"what an earlier run kept cannot be used: {problem.Message}");
            File.Delete(_run.Archive);
            _state = _state with { Steps = [.. _state.Steps.Select(s => s with { State = BuildStepState.Waiting })] };
            Keep();
        }
    }

    // What steps before the last made is kept for the next run; that it cannot be is no failure of this one.
    private async Task PutAwayAsync(IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var made = _state.Steps.Where(s => s.Name is BuildStepName.Capture or BuildStepName.Service).ToList();
        try
        {
            if (_there is null)
                await _plan.Kept.KeepAsync(Work, [.. made.SkipLast(1)], new StepProgress(progress, "putting away"), cancellation)
                    .ConfigureAwait(false);
        }
        catch (Exception problem) when (problem is VembarException or IOException or OperationCanceledException)
        {
            _log.Write("", $"nothing is kept for the next run: {problem.Message}");
        }
        if (!_request.KeepArtifacts)
            _run.RemoveArtifacts();
    }

    // What the run did before it was broken off, as far as it depends on the same.
    private void TakeUp()
    {
        if (_resumed is null)
        {
            if (File.Exists(_run.Archive))
                File.Delete(_run.Archive);
            return;
        }
        var isAdded = IsAdded(_resumed);
        var steps = _state.Steps.ToList();
        for (var at = 0; at < steps.Count; at++)
        {
            // What is in the archive is, whatever became of the reference since.
            var before = _resumed.Steps.FirstOrDefault(s => s.Name == steps[at].Name && s.What == steps[at].What
                && (isAdded || s.Inputs == steps[at].Inputs) && s.IsThere);
            if (before is null && isAdded)
                continue;
            if (before is null || !isAdded && !IsStillThere(before))
                break;
            steps[at] = before;
            _image = before.Image ?? _image;
        }
        _state = _state with
        {
            Steps = steps,
            Image = isAdded ? _resumed.Image : null,
            Root = isAdded ? _resumed.Root : "",
            BytesAdded = isAdded ? _resumed.BytesAdded : 0,
            Changes = _resumed.Changes,
        };
        Keep();
    }

    // Then what the run worked in is not needed any more.
    private bool IsAdded(BuildState before)
    {
        if (before.Image is null || !_host.Files.Exists(Recipe.Archive))
            return false;
        using var archive = ArchiveReader.Open(Recipe.Archive, _host.Files);
        var found = ImageAddition.Find(archive, Recipe.ImageName, before.Version);
        _there = found?.Root.ToString() == before.Root ? found : null;
        return _there is not null;
    }

    private bool IsStillThere(BuildStep step)
    {
        if (step.Name == BuildStepName.Prepare)
            return File.Exists(_run.Overlay);
        if (step.Image is not { } number)
            return true;
        try
        {
            using var archive = ArchiveReader.Open(Work, _host.Files);
            return archive.Images.Any(i => i.Number == number);
        }
        catch (VembarException)
        {
            return false;
        }
    }

    private void Keep()
    {
        _run.Write(_state);
        _request.Changed(_state, _run);
    }

    private void Set(int at, BuildStep step)
    {
        _state = _state with { Steps = [.. _state.Steps.Select((s, i) => i == at ? step : s)] };
        Keep();
    }

    // With how long it took before, where that is worth knowing.
    private string Label(int at)
    {
        const double Long = 5;
        var (step, usual) = (_state.Steps[at], _plan.Usual(_state.Steps[at]));
        return string.Create(CultureInfo.InvariantCulture, $"{step.Name} ({at + 1} of {_state.Steps.Count}"
            + $"{(usual < Long ? "" : usual < 120 ? $", before {usual:0} s" : $", before {usual / 60:0} min")})");
    }

    private async Task<VembarException?> DoAsync(int at, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var step = _state.Steps[at] with { State = BuildStepState.Running, Began = _host.Now };
        Set(at, step);
        _log.Write(step.Name, $"begins {step.What}".TrimEnd());
        var began = _clock.Elapsed;
        double Seconds() => (_clock.Elapsed - began).TotalSeconds;
        try
        {
            var done = await StepAsync(at, progress, cancellation).ConfigureAwait(false);
            done = done with { State = BuildStepState.Done, Began = step.Began, Seconds = Seconds() };
            Set(at, done);
            _log.Write(step.Name, $"done: {done.Outcome}");
            return null;
        }
        catch (OperationCanceledException)
        {
            Set(at, step with { State = BuildStepState.Stopped, Seconds = Seconds(), Outcome = "ended by somebody" });
            _log.Write(step.Name, "ended by somebody");
            _state = _state with { Outcome = BuildOutcome.Stopped, Ended = _host.Now, Seconds = _clock.Elapsed.TotalSeconds };
            Keep();
            throw;
        }
        catch (VembarException problem)
        {
            Set(at, step with { State = BuildStepState.Failed, Seconds = Seconds(), Outcome = problem.Message, Details = problem.Details });
            _log.Write(step.Name, $"failed: {problem.Message}");
            foreach (var detail in problem.Details)
                _log.Write(step.Name, detail);
            return problem;
        }
    }

    private void End(VembarException? failure, VembarException? told)
    {
        _state = _state with
        {
            Outcome = failure is not null ? _state.Image is null || _there is not null ? BuildOutcome.Failed : BuildOutcome.Partly
                : told is not null ? BuildOutcome.Partly : BuildOutcome.Done,
            Ended = _host.Now,
            Problem = told?.Message ?? "",
            Hint = told?.Hint ?? "",
            Seconds = _state.Seconds + _clock.Elapsed.TotalSeconds,
        };
        _log.Write("", $"ends: {_state.Outcome.ToString().ToLowerInvariant()}");
        Keep();
    }

    // Also of a failure.
    private async Task TellAsync(List<VembarException> later, CancellationToken cancellation)
    {
        var to = _state.Steps.Select((step, at) => (step, at)).Where(s => s.step.Name == BuildStepName.Tell).ToList();
        for (var i = 0; i < to.Count; i++)
        {
            var (step, at) = to[i];
            if (step.State == BuildStepState.Skipped)
                continue;
            var began = _clock.Elapsed;
            try
            {
                await Telling.TellAsync(Recipe.Tell[i], _state, _run.Folder, _host.Clock, cancellation).ConfigureAwait(false);
                Set(at, step with
                {
                    State = BuildStepState.Done,
                    Began = _host.Now,
                    Seconds = (_clock.Elapsed - began).TotalSeconds,
                    Outcome = "told"
                });
            }
            catch (VembarException problem)
            {
                later.Add(problem);
                Set(at, step with
                {
                    State = BuildStepState.Failed,
                    Began = _host.Now,
                    Seconds = (_clock.Elapsed - began).TotalSeconds,
                    Outcome = problem.Message
                });
                if (_state.Outcome == BuildOutcome.Done)
                {
                    _state = _state with { Outcome = BuildOutcome.Partly, Problem = problem.Message };
                    Keep();
                }
            }
        }
    }

    private async Task<BuildStep> StepAsync(int at, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var step = _state.Steps[at];
        switch (step.Name)
        {
            case BuildStepName.Prepare:
                return await PrepareAsync(step, progress, cancellation).ConfigureAwait(false);
            case BuildStepName.Ready:
                return await ReadyAsync(step, progress, cancellation).ConfigureAwait(false);
            case BuildStepName.Capture:
                return await (Recipe.IsFromImage ? TakeAsync(step, progress, cancellation) : CaptureAsync(step, progress, cancellation))
                    .ConfigureAwait(false);
            case BuildStepName.Service:
                return await ServiceAsync(step, at - _state.Steps.TakeWhile(s => s.Name != BuildStepName.Service).Count(), progress,
                    cancellation).ConfigureAwait(false);
            case BuildStepName.Expect:
                return await ExpectAsync(step, at - _state.Steps.TakeWhile(s => s.Name != BuildStepName.Expect).Count(), progress,
                    cancellation).ConfigureAwait(false);
            case BuildStepName.Sign:
                return await SignAsync(step, progress, cancellation).ConfigureAwait(false);
            case BuildStepName.Add:
                return await (_there is { } there ? MarkAsync(step, there, progress, cancellation)
                    : AddAsync(step, progress, cancellation)).ConfigureAwait(false);
            default:
                return await SyncAsync(step, progress, cancellation).ConfigureAwait(false);
        }
    }

    private async Task<BuildStep> PrepareAsync(BuildStep step, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var prepare = Recipe.Prepare!;
        var before = Fingerprint.OfSource(Recipe.From);
        File.Delete(_run.Overlay);
        VirtualMachine.Overlay(Recipe.From, _run.Overlay);
        string outcome;
        var details = new List<string>();
        if (prepare.Machine is { } machine)
        {
            if (machine.IsEmulated || !VirtualMachine.IsFast)
            {
                details.Add(machine.IsEmulated ? "emulated, as the recipe says: it takes many times as long"
                    : "emulated, for there is no KVM here: it takes many times as long");
                _log.Write(step.Name, details[0]);
            }
            var time = await VirtualMachine.RunAsync(_run.Overlay, Reading, _run.At("machine"), machine, prepare.Limit,
                ran => progress.Report(new OperationProgress(string.Create(CultureInfo.InvariantCulture,
                $"the copy runs, {ran:h\\:mm\\:ss} of at most {prepare.Limit:h\\:mm\\:ss}"), 0, 0, false, "")), cancellation)
                .ConfigureAwait(false);
            outcome = string.Create(CultureInfo.InvariantCulture, $"it ran {time.TotalSeconds:0} s and switched itself off");
        }
        else
        {
            var program = new OwnProgram([.. prepare.Run.Select(w => w.Replace(RecipePreparation.Disk, _run.Overlay,
                StringComparison.Ordinal))])
            {
                Folder = Path.GetDirectoryName(Recipe.Path)!,
                Log = _run.At("prepare.log"),
            };
            if (await program.RunAsync(prepare.Limit, _host.Clock, cancellation).ConfigureAwait(false) is { } wrong)
                throw VembarException.Environment("program-failed", $"'{prepare.Run[0]}' {wrong}", $"What it said is in '{program.Log}'.");
            outcome = $"{Path.GetFileName(prepare.Run[0])} is done";
        }
        if (Fingerprint.OfSource(Recipe.From) != before)
            throw VembarException.Environment("reference-changed", $"'{Recipe.From}' was changed while a copy of it was made ready",
                "Shut down whatever uses it, and build again: the copy is worth nothing.");
        return step with { Outcome = outcome, Details = details };
    }

    private async Task<BuildStep> ReadyAsync(BuildStep step, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var found = await new ReadyHandler(_host).HandleAsync(_there is null && _image == 0
            ? new ReadyRequest { Source = Disk, Reading = Reading, Rules = Recipe.Rules } : new ReadyRequest
            {
                Image = Image,
                Rules = Recipe.Rules
            }, progress,
            cancellation).ConfigureAwait(false);
        var stops = found.Findings.Where(f => f.Severity == Severity.Stop).ToList();
        var open = stops.Where(f => !Recipe.Accept.Contains("all") && !Recipe.Accept.Contains(f.Check)).ToList();
        static string Line(Finding finding) => $"{finding.Check}: {finding.Text} ({finding.Found}). {finding.Remedy}".TrimEnd();
        if (open.Count > 0)
            throw NotInOrder($"'{Disk}' is not ready to be captured"
                + (open.Count == 1 ? "" : $": {open.Count} findings stand against it"),
                "Put it right on the reference, or name what may be in 'accept' of the recipe.", [.. open.Select(Line)]);
        return step with
        {
            Outcome = stops.Count > 0 ? $"ready, with what is accepted: {string.Join(", ", stops.Select(s => s.Check).Distinct())}"
                : "ready",
            Details = [.. found.Findings.Select(Line)],
        };
    }

    // A step that is done again finds what it made before.
    private static string StepVersion(string name) => $"{name}-{Guid.NewGuid():N}";

    private async Task<BuildStep> CaptureAsync(BuildStep step, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var done = await new CaptureHandler(_host).HandleAsync(new CaptureRequest
        {
            Source = Disk,
            Reading = Reading,
            Archive = Work,
            BasedOn = Base,
            Name = Recipe.ImageName,
            Version = StepVersion(step.Name),
            Edition = Recipe.Edition,
            Note = Recipe.Note,
            Effort = Recipe.Effort,
            LeaveOut = Recipe.LeaveOut,
            Rules = Recipe.Rules,
            // That was looked at before.
            AcceptUnready = true,
            Wait = _request.Wait,
        }, progress, cancellation).ConfigureAwait(false);
        _image = done.Image.Number;
        return step with
        {
            Image = _image,
            Outcome = string.Create(CultureInfo.InvariantCulture, $"{done.Image.Files:N0} files, {ByteSize.Show(done.Image.Bytes)}, of "
                + $"which {ByteSize.Show(done.Stats.BytesNew)} are new"),
            Details = done.Warnings,
        };
    }

    // Nothing of it is stored again that the archive has.
    private async Task<BuildStep> TakeAsync(BuildStep step, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var reference = ImageReference.Parse(Recipe.From);
        var taken = await new CopyHandler(_host).HandleAsync(new CopyRequest(reference, Work, Recipe.ImageName, StepVersion(step.Name),
            _request.Wait)
        { BasedOn = Base }, progress, cancellation).ConfigureAwait(false);
        _image = taken.Image.Number;
        return step with
        {
            Image = _image,
            Outcome = string.Create(CultureInfo.InvariantCulture, $"{taken.Image.Files:N0} files of {reference}"),
        };
    }

    private async Task<BuildStep> ServiceAsync(BuildStep step, int which, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var order = _plan.Orders[which];
        var done = await new ServiceHandler(_host).HandleAsync(new ServiceRequest
        {
            Image = Image,
            Changes = order.Changes,
            As = Recipe.ImageName,
            Order = order.Origin,
            Title = new ImageTitle { Version = StepVersion(step.Name) },
            Effort = Recipe.Effort,
            Wait = _request.Wait,
        }, progress, cancellation).ConfigureAwait(false);
        static string Line(ChangeOutcome o) => $"{o.Kind} {o.What}: {o.Status.ToString().ToLowerInvariant()}"
            + (o.Why.Length > 0 ? $" ({o.Why})" : "");
        var refused = done.Changes.Where(c => c.Status == ChangeStatus.Refused).ToList();
        if (refused.Count > 0)
            throw NotInOrder($"'{step.What}' was not done: "
                + (refused.Count == 1 ? $"{refused[0].Kind} {refused[0].What} was refused: {refused[0].Why}"
                    : $"{refused.Count} changes were "
                + "refused"), "Put the order right, and go on with this run.", [.. refused.Select(Line)]);
        _image = done.Image.Number;
        var (made, other) = (done.Changes.Count(c => c.Status == ChangeStatus.Done), done.Changes.Count);
        return step with
        {
            Image = _image,
            Outcome = $"{made} of {other} changes done{(made < other ? ", the others were so already" : "")}",
            Details = [.. done.Changes.Select(Line)],
        };
    }

    private async Task<BuildStep> ExpectAsync(BuildStep step, int which, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var found = await new CheckHandler(_host).HandleAsync(new CheckRequest(Image.ToString(), Image, null, Recipe.Expect[which]),
            progress,
            cancellation).ConfigureAwait(false);
        static string Line(ExpectationOutcome e) =>
            $"{e.Check}: {e.Text}{(e.Found.Length > 0 ? $" (found: {e.Found})" : "")}. {e.Remedy}".Trim();
        var open = found.Expectations.Where(e => !e.IsSo).ToList();
        if (!found.Ok)
            throw NotInOrder($"it is not as '{step.What}' expects: {open.Count} of {found.Expectations.Count} are not so",
                "Put the orders right, and go on with this run.", [.. open.Select(Line)]);
        return step with { Outcome = $"{found.Expectations.Count} as expected", Details = [.. open.Select(Line)] };
    }

    private async Task<BuildStep> SignAsync(BuildStep step, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var sign = Recipe.Sign!;
        // What is signed is the image's name and version as well.
        if (_there is null)
            _image = await TitleAsync(cancellation).ConfigureAwait(false);
        var signed = await new SignHandler(_host).HandleAsync(new SignRequest(Image, sign.Certificate, sign.Key, _request.Password,
            _request.Wait), progress, cancellation).ConfigureAwait(false);
        return step with
        {
            Image = _there is null ? _image : null,
            Outcome = $"by {string.Join(", ", (signed.Signatures ?? []).Select(s => s.Signer))}",
        };
    }

    private async Task<int> TitleAsync(CancellationToken cancellation)
    {
        using var writer = await ArchiveWriter.OpenAsync(Work, _host.WriterOptions(_request.Wait), cancellation).ConfigureAwait(false);
        // A run that was broken off after it had done so has it.
        if (ImageAddition.Find(writer.Base, Recipe.ImageName, _plan.Version) is { } titled)
            return titled.Number;
        var image = writer.Base.Find(Text(_image), _host.Clock);
        return writer.CommitImage(image with { Version = _plan.Version }, null, $"title {_plan.Version}").Number;
    }

    private async Task<BuildStep> AddAsync(BuildStep step, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var changes = await CompareAsync(progress, cancellation).ConfigureAwait(false);
        var notes = new List<string>();
        var (image, bytes) = await new ImageAddition(_host, Recipe, _request.Wait).AddAsync(Work, _image, _plan.Version, notes, progress,
            cancellation).ConfigureAwait(false);
        _state = _state with
        {
            Image = image.Number,
            Root = image.Root.ToString(),
            BytesAdded = bytes,
            Changes = changes ?? _state.Changes
        };
        return step with
        {
            Outcome = string.Create(CultureInfo.InvariantCulture, $"image {image.Number} {image.Title}, the archive grew by "
                + $"{ByteSize.Show(bytes)}"),
            Details = notes,
        };
    }

    // With the version before, while that is still there.
    private async Task<BuildChanges?> CompareAsync(IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        if (!_host.Files.Exists(Recipe.Archive))
            return null;
        ImageRecord? before;
        using (var archive = ArchiveReader.Open(Recipe.Archive, _host.Files))
            before = ImageCatalogue.Of(archive).VersionsOf(Recipe.ImageName).LastOrDefault(v => v.Version != _plan.Version);
        return before is null ? null : BuildChanges.Of(await new DiffHandler(_host).HandleAsync(new DiffRequest(
            new ImageReference(Recipe.Archive, Text(before.Number)), Image), progress, cancellation).ConfigureAwait(false));
    }

    // The image is there from an earlier run: only its channels may have to be others.
    private async Task<BuildStep> MarkAsync(BuildStep step, ImageRecord there, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var wanted = Recipe.Channels.Where(c => !(there.Channels ?? []).Contains(c, StringComparer.OrdinalIgnoreCase)).ToList();
        if (wanted.Count == 0)
            return step with { Outcome = $"image {there.Number} {there.Title} is there" };
        var done = await new MarkHandler(_host).HandleAsync(new MarkRequest
        {
            Image = new ImageReference(Recipe.Archive, Text(there.Number)),
            Channels = wanted,
            KnownChannels = _request.KnownChannels,
            Wait = _request.Wait,
        }, progress, cancellation).ConfigureAwait(false);
        return step with { Outcome = $"image {there.Number} {there.Title}: {string.Join(", ", done.Changes)}", Details = done.Warnings };
    }

    private async Task<BuildStep> SyncAsync(BuildStep step, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var site = _plan.Sites.First(s => s.Name == step.What);
        var result = (await new SyncHandler(_host).HandleAsync(new SyncRequest(Recipe.Archive, [site], false, _request.Memory,
            _request.Wait),
            progress, cancellation).ConfigureAwait(false))[0];
        if (result.Problem is { } problem)
            throw VembarException.Environment("site-missing", $"the site '{site.Name}' has not got it: {problem.Message}",
                "The image is in the archive; go on with this run when the site is there again.");
        var done = result.Steps.Where(s => s.Done).ToList();
        return step with
        {
            Outcome = done.Count == 0 ? "has all that it should" : string.Join(", ", done.Select(s => $"{s.What} {s.Image}")),
        };
    }

    private sealed class StepProgress(IProgress<OperationProgress> progress, string step) : IProgress<OperationProgress>
    {
        public void Report(OperationProgress value) => progress.Report(value with { Phase = $"{step}: {value.Phase}" });
    }
}
