using System.Globalization;
using Vembar.Common;
using Vembar.Operations.Capture;
using Vembar.Operations.Deploy;
using Vembar.Operations.Expect;
using Vembar.Operations.Show;
using Vembar.Operations.Sign;
using Vembar.Operations.Stations.Contract;
using Vembar.Operations.Waves;
using Vembar.Store.Places;
using Vembar.Store.Places.Remote;

namespace Vembar.Operations.Stations.Joining;

/// <summary>What a machine runs: joins a station, waits until it is told what to do, does it, and tells how it went.</summary>
public sealed class JoinHandler(OperationHost host) : IOperationHandler<JoinOptions, TaskOutcome>
{
    private static readonly TimeSpan s_again = TimeSpan.FromSeconds(5), s_soon = TimeSpan.FromSeconds(1);

    /// <summary>Joins, and goes on until a task was done.</summary>
    /// <returns>How the task ended.</returns>
    /// <exception cref="VembarException">The station does not take the machine.</exception>
    /// <exception cref="OperationCanceledException">It was ended; the station is told that the machine leaves.</exception>
    public async Task<TaskOutcome> HandleAsync(JoinOptions request, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        if (request.Disk is { } named && !File.Exists(named))
            throw VembarException.Input("no-such-disk", $"there is no disk '{named}'", Advice.Of("check-path"));
        var found = await MachineScan.RunAsync(request.Sys, request.Disk, host, cancellation).ConfigureAwait(false);
        var report = found with { Starter = request.Starter };
        if (report.Disks.Count == 0)
            throw VembarException.Input("no-disk", "this machine has no disk that an image could go to",
                Advice.Of("name-disk"));
        using var run = new MachineRun(request, report, host);
        try
        {
            while (true)
            {
                await run.JoinAsync(cancellation).ConfigureAwait(false);
                if (run.EndedBefore is { } before)
                    return before;
                // It stays joined after a failure, and waits for somebody to try again.
                while (true)
                {
                    if (request.Attendant is { } attendant)
                        await run.AttendAsync(attendant, cancellation).ConfigureAwait(false);
                    if (await run.WaitForTaskAsync(cancellation).ConfigureAwait(false) is not { } task)
                        break;
                    var outcome = await run.DoAsync(task, progress, cancellation).ConfigureAwait(false);
                    if (outcome.Done || request.Once)
                    {
                        await run.LeaveAsync().ConfigureAwait(false);
                        return outcome;
                    }
                    request.Tell($"{outcome.Problem}. {outcome.Hint}".TrimEnd());
                }
            }
        }
        catch (OperationCanceledException)
        {
            await run.LeaveAsync().ConfigureAwait(false);
            throw;
        }
    }

    /// <summary>A machine from joining to its end.</summary>
    private sealed class MachineRun : IDisposable
    {
        private readonly JoinOptions _options;
        private readonly MachineReport _report;
        private IReadOnlyList<ReportedDevice> _devices = [];
        private readonly OperationHost _host;
        private readonly List<string> _stations;
        private readonly TaskNote? _left;
        private StationClient? _client;
        private string? _key;
        private string _told = "";

        public MachineRun(JoinOptions options, MachineReport report, OperationHost host)
        {
            (_options, _report, _host) = (options, report, host);
            _stations = [.. options.Stations.Select(s => s.TrimEnd('/'))];
            // What was begun before the power went.
            _left = TaskNote.Find(report.Disks[0].Path);
            _key = _left?.Key;
        }

        private string Disk => _report.Disks[0].Path;

        private PlaceOptions Places => _options.Places with
        {
            Credentials = _ => _key is null ? null : new PlaceCredentials("", _key, IsToken: true),
        };

        private StationClient Client => _client ??= new StationClient(_stations[0], Places with { Retries = 1 });

        private void Tell(string text)
        {
            if (text == _told)
                return;
            _told = text;
            _options.Tell(text);
        }

        private void LearnOf(IReadOnlyList<string>? stations)
        {
            foreach (var station in (stations ?? []).Select(s => s.TrimEnd('/')).Where(s => !_stations.Contains(s)))
                _stations.Add(station);
        }

        // One that does not answer goes to the end.
        private void TryNext()
        {
            _client?.Dispose();
            _client = null;
            _stations.Add(_stations[0]);
            _stations.RemoveAt(0);
        }

        private static bool IsAway(VembarException problem) => problem.Kind == ErrorKind.Environment
            && problem.Code is "place-unreachable" or "place-busy" or "database-away" or "busy" or "mistake";

        /// <summary>Joins; waits for a station that does not answer, and where another machine with the same identity was heard
        /// of.</summary>
        public async Task JoinAsync(CancellationToken cancellation)
        {
            while (true)
            {
                try
                {
                    var answer = await Client.JoinAsync(new JoinRequest(_report, _key), cancellation).ConfigureAwait(false);
                    _key = answer.Key;
                    _devices = answer.Devices;
                    await LookBackAsync(cancellation).ConfigureAwait(false);
                    LearnOf(answer.Stations);
                    Tell($"This machine is {answer.Machine} at {Client.Address}"
                        + (answer.Model.Length > 0 ? $", taken for {answer.Model}" : ", of a model that is not known") + ".");
                    return;
                }
                catch (VembarException problem) when (problem.Code == "machine-present" || IsAway(problem))
                {
                    Tell($"{problem.Message}. Trying again.");
                    if (problem.Code != "machine-present")
                        TryNext();
                    await Task.Delay(s_again, _host.Clock, cancellation).ConfigureAwait(false);
                }
            }
        }

        /// <summary>How the task ended that was found on the disk, where the station knows that already; null else.</summary>
        public TaskOutcome? EndedBefore { get; private set; }

        // The power may have gone after the last word was said, and before it was heard that it arrived.
        private async Task LookBackAsync(CancellationToken cancellation)
        {
            if (_left is null
                || await Client.PollAsync(null, cancellation)
                .ConfigureAwait(false) is not { State: MachineState.Done or MachineState.Checked })
                return;
            TaskNote.Remove(Disk);
            EndedBefore = new TaskOutcome { Done = true };
        }

        /// <summary>Lets somebody at the machine approve it, if it is not approved yet.</summary>
        public async Task AttendAsync(IAttendant attendant, CancellationToken cancellation)
        {
            while (true)
            {
                try
                {
                    if (await AskAsync(attendant.SignIn, cancellation).ConfigureAwait(false) is not { } request)
                        return;
                    var answer = await Client.AttendAsync(request, cancellation).ConfigureAwait(false);
                    if (await AskAsync(() => attendant.Choose(answer, _report), cancellation).ConfigureAwait(false) is not { } approval)
                        continue;
                    await Client.ApproveAttendedAsync(new AttendedApproval(answer.Ticket, approval), cancellation).ConfigureAwait(false);
                    return;
                }
                catch (VembarException problem) when (problem.Code == "unknown-machine")
                {
                    return;
                }
                catch (VembarException problem)
                {
                    attendant.Refused(problem);
                    if (IsAway(problem))
                    {
                        TryNext();
                        await Task.Delay(s_soon, _host.Clock, cancellation).ConfigureAwait(false);
                    }
                }
            }
        }

        // While somebody thinks, the station hears that the machine is there; and somebody at the station may be quicker.
        private async Task<T?> AskAsync<T>(Func<T?> ask, CancellationToken cancellation)
            where T : class
        {
            Task<T?>? asking = null;
            MachineState? known = null;
            while (true)
            {
                try
                {
                    var answer = await Client.PollAsync(known, cancellation).ConfigureAwait(false);
                    if (answer.Task is not null)
                        return null;
                    known = answer.State;
                }
                catch (VembarException problem) when (IsAway(problem))
                {
                    // Whoever is asked is not asked twice.
                    TryNext();
                    await Task.Delay(s_soon, _host.Clock, cancellation).ConfigureAwait(false);
                }
                asking ??= Task.Run(ask, cancellation);
                using var told = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
                var waiting = Client.PollAsync(known, told.Token);
                await Task.WhenAny(asking, waiting).ConfigureAwait(false);
                await told.CancelAsync().ConfigureAwait(false);
                await ((Task)waiting).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
                if (asking.IsCompleted)
                    return await asking.ConfigureAwait(false);
                cancellation.ThrowIfCancellationRequested();
            }
        }

        /// <summary>Waits until there is something to do; null when the machine has to join again.</summary>
        public async Task<MachineTask?> WaitForTaskAsync(CancellationToken cancellation)
        {
            MachineState? known = null;
            while (true)
            {
                try
                {
                    var answer = await Client.PollAsync(known, cancellation).ConfigureAwait(false);
                    LearnOf(answer.Stations);
                    if (answer.Task is { } task)
                        return task.Id == _left?.Task.Id ? task with { Fill = _left.Task.Fill } : task;
                    known = answer.State;
                    Tell(answer.Waiting.Length > 0 ? $"{Capital(answer.State)}: {answer.Waiting}." : $"{Capital(answer.State)}.");
                }
                catch (VembarException problem) when (problem.Code == "unknown-machine")
                {
                    return null;
                }
                catch (VembarException problem) when (IsAway(problem))
                {
                    Tell($"{problem.Message}. Trying again.");
                    TryNext();
                    await Task.Delay(s_soon, _host.Clock, cancellation).ConfigureAwait(false);
                }
            }
        }

        // A station takes no longer reports.
        private const int MostListed = 1000, LongestLine = 500;

        private static string Cut(string text) => text.Length <= LongestLine ? text : $"{text[..LongestLine]}…";

        private static string Capital(MachineState state) => state.ToString();

        private async Task<TaskReportAnswer> ReportAsync(TaskReport report, CancellationToken cancellation)
        {
            try
            {
                return await Client.ReportAsync(report, cancellation).ConfigureAwait(false);
            }
            catch (VembarException problem) when (IsAway(problem))
            {
                TryNext();
                throw;
            }
        }

        /// <summary>Does a task, and tells how it went.</summary>
        public async Task<TaskOutcome> DoAsync(MachineTask task, IProgress<OperationProgress> shown, CancellationToken cancellation)
        {
            (_written, _userFiles) = (null, null);
            Tell(task.Kind == TaskKind.Capture ? $"Captured as \"{task.Title}\"." : $"Gets {task.Title} as {task.ComputerName}.");
            var reporter = new TaskReporter(task.Id, ReportAsync, shown, _host.Clock, cancellation);
            await using (reporter.ConfigureAwait(false))
            {
                TaskOutcome outcome;
                try
                {
                    await reporter.BeginAsync().ConfigureAwait(false);
                    var result = await RunAsync(task, reporter).ConfigureAwait(false);
                    outcome = new TaskOutcome { Done = true, Result = result };
                }
                catch (Exception failure) when (failure is OperationCanceledException or VembarException && IsStop(failure, reporter))
                {
                    Tell("It was stopped at the station.");
                    TaskNote.Remove(Disk);
                    return new TaskOutcome { Done = false, Code = "stopped", Problem = "it was stopped at the station" };
                }
                catch (VembarException problem) when (!cancellation.IsCancellationRequested)
                {
                    outcome = new TaskOutcome
                    {
                        Done = false,
                        Code = problem.Code,
                        Problem = Cut(problem.Message),
                        Hint = Cut(_options.HintOf(problem)),
                        Details = [.. problem.Details.Take(MostListed).Select(Cut)],
                    };
                }
                await reporter.EndAsync(outcome, cancellation).ConfigureAwait(false);
                TaskNote.Remove(Disk);
                return outcome;
            }
        }

        // The archive is closed to a machine that was stopped, and it may hear of that first.
        private static bool IsStop(Exception failure, TaskReporter reporter)
        {
            for (var cause = failure; cause is not null; cause = cause.InnerException)
            {
                if (cause is VembarException { Code: "not-for-this-machine" })
                    return true;
            }
            return reporter.IsStoppedThere;
        }

        private async Task<MachineResult> RunAsync(MachineTask task, TaskReporter reporter)
        {
            while (true)
            {
                var address = Client.Address;
                using var places = new PlaceFileSystem(LocalFileSystem.Instance, () => Places with { Cancellation = reporter.Stopped });
                var host = With(places);
                try
                {
                    return task.Kind == TaskKind.Capture ? await CaptureAsync(task, address, host, reporter).ConfigureAwait(false)
                        : await DeployAsync(task, address, host, reporter).ConfigureAwait(false);
                }
                catch (VembarException problem) when (IsAway(problem) && !reporter.Stopped.IsCancellationRequested)
                {
                    reporter.Note("warning", $"{problem.Message}; going on when a station answers");
                    TryNext();
                    await Task.Delay(s_again, _host.Clock, reporter.Stopped).ConfigureAwait(false);
                }
            }
        }

        private OperationHost With(IFileSystem files) => new()
        {
            Files = files,
            Clock = _host.Clock,
            Memory = _host.Memory,
            Workers = _host.Workers,
            TemporaryFolder = _host.TemporaryFolder,
            Versions = _host.Versions,
            By = _host.By,
        };

        // What it deploys with others; null where it does so alone.
        private async Task<WaveReception?> HearAsync(MachineTask task, string address, TaskReporter reporter)
        {
            if (task.Wave is not { } wave || _written is not null)
                return null;
            try
            {
                var plan = await Client.WavePlanAsync(wave.Id, reporter.Stopped).ConfigureAwait(false);
                var room = Math.Clamp(GC.GetGCMemoryInfo().TotalAvailableMemoryBytes / 6, LeastHeard, MostHeard);
                return WaveReception.Begin(wave, plan, address, room, _host.Clock, text => reporter.Note("warning", text));
            }
            catch (VembarException problem) when (problem.Code == "no-such-wave")
            {
                reporter.Note("info", "the wave is over: asking for everything");
                return null;
            }
        }

        // What a machine holds of a wave that it has not written yet.
        private const long LeastHeard = 64L << 20, MostHeard = 256L << 20;
        private long _heard, _asked;

        // What was written in this run: a connection that breaks afterwards does not have it written again.
        private DeployResult? _written;
        private UserFilesTask? _userFiles;

        private async Task<MachineResult> DeployAsync(MachineTask task, string address, OperationHost host, TaskReporter reporter)
        {
            var own = host;
            if (task.UserFiles is { } keep && _written is null)
            {
                _userFiles ??= new UserFilesTask(keep, task.Id, Disk, reporter);
                await _userFiles.KeepAsync(address, host).ConfigureAwait(false);
            }
            var image = new ImageReference($"{address}{task.Archive}", task.Image.ToString(CultureInfo.InvariantCulture));
            using var wave = await HearAsync(task, address, reporter).ConfigureAwait(false);
            if (wave is not null)
                host = With(wave.Over(host.Files, image.Archive.Path));
            using var signers = TextFile.For(host, task.Signers, ".pem");
            var isBefore = _written is not null;
            var done = _written ?? await new DeployHandler(host).HandleAsync(new DeployRequest
            {
                Image = image,
                Target = Disk,
                Layout = task.Layout,
                MayErase = _ => true,
                ComputerName = task.ComputerName,
                Fill = task.Fill,
                Root = task.Root,
                Note = TaskNote.Write(_key!, _userFiles is null ? task : task with { UserFiles = _userFiles.Order }),
                IsGivenUp = failure => IsStop(failure, reporter),
                SignedBy = signers is null ? null : ImageTrust.Load([signers.Path]),
                // The station looked at that, and somebody may have set it aside.
                AcceptMisfit = true,
                Verify = task.Verify,
            }, reporter, reporter.Stopped).ConfigureAwait(false);
            if (done.Resumed > 0 && !isBefore)
                reporter.Note("info", $"went on where it was: {done.Resumed} files were written before");
            foreach (var warning in isBefore ? [] : done.Warnings)
                reporter.Note("warning", warning);
            if (done.Differences is [var first, ..])
                throw VembarException.Environment("read-back", $"reading back found {done.Differences.Count} differences: {first}",
                    "See whether the disk is sound, and try again.");
            _written = done;
            if (wave is not null)
                (_heard, _asked) = wave.Bytes;
            if (_userFiles is not null)
                await _userFiles.LayBackAsync(address, own).ConfigureAwait(false);
            reporter.Report(new OperationProgress("looking at the result", 0, 0, false, ""));
            var shown = await new ShowHandler(host).HandleAsync(new ShowRequest(image, false, false), reporter, reporter.Stopped)
                .ConfigureAwait(false);
            var fit = await new FitHandler(host).HandleAsync(new FitRequest(image, _report with
            {
                Devices = _devices,
            }, task.Layout, null), reporter, reporter.Stopped)
                .ConfigureAwait(false);
            return new MachineResult
            {
                Image = done.Image.Number,
                Root = done.Image.Root.ToString(),
                Title = task.Title,
                ComputerName = task.ComputerName ?? "",
                Files = done.Files,
                Bytes = done.Bytes,
                Resumed = done.Resumed,
                Heard = _heard,
                Asked = _asked,
                ReadBack = done.Verified,
                Programs = [.. (shown.Programs ?? []).Take(MostListed).Select(p => Cut($"{p.Name} {p.Version}".TrimEnd()))],
                Drivers = fit.Drivers,
                Checks = await CheckAsync(task, host, reporter).ConfigureAwait(false),
                Warnings = [.. done.Warnings.Concat(_userFiles?.Warnings ?? []).Take(MostListed).Select(Cut)],
                UserFiles = [.. (_userFiles?.Accounts ?? []).Take(MostListed)
                    .Select(a => new LaidBack(Cut(a.Name), Cut(a.To), a.IsProfile, a.Files, a.Bytes))],
                Phases = reporter.Phases,
            };
        }

        private async Task<IReadOnlyList<CheckedExpectation>> CheckAsync(MachineTask task, OperationHost host, TaskReporter reporter)
        {
            using var expectations = TextFile.For(host, task.Expectations, ".yaml");
            if (expectations is null)
                return [];
            reporter.Report(new OperationProgress("checking what was expected", 0, 0, false, ""));
            var looked = await new CheckHandler(host).HandleAsync(new CheckRequest(Disk, null, null, expectations.Path), reporter,
                reporter.Stopped).ConfigureAwait(false);
            return [.. looked.Expectations.Select(e => new CheckedExpectation(e.Text, e.Severity.ToString().ToLowerInvariant(), e.IsSo,
                e.Found))];
        }

        private async Task<MachineResult> CaptureAsync(MachineTask task, string address, OperationHost host, TaskReporter reporter)
        {
            var done = await new CaptureHandler(host).HandleAsync(new CaptureRequest
            {
                Source = Disk,
                Archive = $"{address}{task.Archive}",
                Name = task.Title,
                Edition = task.Edition,
                Version = task.Version ?? "",
                AcceptUnready = task.AcceptUnready,
                Wait = TimeSpan.FromMinutes(5),
            }, reporter, reporter.Stopped).ConfigureAwait(false);
            return new MachineResult
            {
                Image = done.Image.Number,
                Root = done.Image.Root.ToString(),
                Title = $"{done.Image.Number} {done.Image.Title}",
                Files = done.Image.Files,
                Bytes = done.Image.Bytes,
                BytesStored = done.Stats.BytesStored,
                Warnings = [.. done.Warnings.Take(MostListed).Select(Cut)],
                Phases = reporter.Phases,
            };
        }

        /// <summary>Tells the station that the machine leaves, if it answers at once.</summary>
        public async Task LeaveAsync()
        {
            if (_key is null)
                return;
            using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(3));
            try
            {
                await Client.LeaveAsync(limit.Token).ConfigureAwait(false);
            }
            catch (Exception failure) when (failure is VembarException or OperationCanceledException)
            {
                // It will notice.
            }
        }

        public void Dispose() => _client?.Dispose();
    }
}
