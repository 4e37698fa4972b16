using System.Diagnostics;
using Vembar.Common;
using Vembar.Operations.Stations.Contract;

namespace Vembar.Operations.Stations.Joining;

/// <summary>Tells a station of a task as it happens. What it cannot tell now it tells later; the task goes on meanwhile.</summary>
internal sealed class TaskReporter : IProgress<OperationProgress>, IAsyncDisposable
{
    private static readonly TimeSpan s_interval = TimeSpan.FromSeconds(1), s_retry = TimeSpan.FromSeconds(2);

    private readonly string _task;
    private readonly Func<TaskReport, CancellationToken, Task<TaskReportAnswer>> _send;
    private readonly IProgress<OperationProgress> _shown;
    private readonly TimeProvider _clock;
    private readonly CancellationTokenSource _stopped;
    private readonly CancellationTokenSource _ending = new();
    private readonly Lock _gate = new();
    private readonly SemaphoreSlim _sending = new(1);
    private readonly List<TaskEvent> _pending = [];
    private readonly List<PhaseTime> _phases = [];
    private readonly Stopwatch _phaseTime = Stopwatch.StartNew();
    private OperationProgress _last = new("", 0, 0, false, "");
    private (long Done, TimeSpan At) _from;
    private int _number;
    private int _events;
    private Task _loop = Task.CompletedTask;

    /// <param name="task">The task.</param>
    /// <param name="send">Sends a report.</param>
    /// <param name="shown">Where progress is shown as well.</param>
    /// <param name="clock">The machine's clock.</param>
    /// <param name="cancellation">Ends the task.</param>
    public TaskReporter(string task, Func<TaskReport, CancellationToken, Task<TaskReportAnswer>> send, IProgress<OperationProgress> shown,
        TimeProvider clock, CancellationToken cancellation)
    {
        (_task, _send, _shown, _clock) = (task, send, shown, clock);
        _stopped = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
    }

    /// <summary>Ends when the task is to: it was interrupted here, or stopped at the station.</summary>
    public CancellationToken Stopped => _stopped.Token;

    /// <summary>Whether somebody stopped it at the station.</summary>
    public bool IsStoppedThere { get; private set; }

    /// <summary>How long the parts of the task took until now.</summary>
    public IReadOnlyList<PhaseTime> Phases
    {
        get
        {
            lock (_gate)
                return [.. _phases, .. _last.Phase.Length > 0 ? [new PhaseTime(_last.Phase, Rounded())] : Array.Empty<PhaseTime>()];
        }
    }

    private double Rounded() => Math.Round(_phaseTime.Elapsed.TotalSeconds, 2);

    /// <summary>Tells that the task begins, and waits until the station knows.</summary>
    public async Task BeginAsync()
    {
        await SendAsync(null, _stopped.Token).ConfigureAwait(false);
        _loop = Task.Run(RunAsync);
    }

    /// <summary>Tells that user files are at the station, and waits until the station took note of it.</summary>
    /// <exception cref="OperationCanceledException">It was ended before.</exception>
    public Task KeptAsync(IReadOnlyList<KeptImage> kept) => SendAsync(null, _stopped.Token, kept);

    /// <summary>Something happened.</summary>
    public void Note(string level, string text)
    {
        const int Longest = 2000;
        lock (_gate)
            _pending.Add(new TaskEvent(++_events, _clock.GetUtcNow().UtcDateTime, level, text.Length > Longest ? text[..Longest] : text));
    }

    /// <inheritdoc/>
    public void Report(OperationProgress value)
    {
        lock (_gate)
        {
            if (value.Phase != _last.Phase)
            {
                if (_last.Phase.Length > 0)
                    _phases.Add(new PhaseTime(_last.Phase, Rounded()));
                _phaseTime.Restart();
                _from = (value.Done, TimeSpan.Zero);
            }
            _last = value;
        }
        _shown.Report(value);
    }

    private TaskProgress? Progress()
    {
        if (_last.Phase.Length == 0)
            return null;
        var elapsed = _phaseTime.Elapsed - _from.At;
        var speed = _last.InBytes && elapsed.TotalSeconds > 0.2 ? (_last.Done - _from.Done) / elapsed.TotalSeconds : 0;
        var left = speed > 0 && _last.Total > 0 ? (_last.Total - _last.Done) / speed : -1;
        return new TaskProgress(_last.Phase, _last.Done, _last.Total, _last.InBytes, Math.Round(Math.Max(0, speed)), Math.Round(left, 1));
    }

    private async Task RunAsync()
    {
        try
        {
            while (true)
            {
                await Task.Delay(s_interval, _clock, _ending.Token).ConfigureAwait(false);
                await SendAsync(null, _ending.Token).ConfigureAwait(false);
            }
        }
        catch (OperationCanceledException)
        {
            // The end is told by who ends it.
        }
    }

    /// <summary>Tells how the task ended, and waits until the station knows.</summary>
    /// <exception cref="OperationCanceledException">It was ended before.</exception>
    public async Task EndAsync(TaskOutcome outcome, CancellationToken cancellation)
    {
        await _ending.CancelAsync().ConfigureAwait(false);
        await _loop.ConfigureAwait(false);
        await SendAsync(outcome, cancellation).ConfigureAwait(false);
    }

    // Until it gets through; a report that makes no sense to the station is not sent again.
    private async Task SendAsync(TaskOutcome? outcome, CancellationToken cancellation,
        IReadOnlyList<KeptImage>? kept = null)
    {
        // One after the other: what was sent is taken off the front.
        await _sending.WaitAsync(cancellation).ConfigureAwait(false);
        try
        {
            await SendNextAsync(outcome, kept, cancellation).ConfigureAwait(false);
        }
        finally
        {
            _sending.Release();
        }
    }

    private async Task SendNextAsync(TaskOutcome? outcome, IReadOnlyList<KeptImage>? kept, CancellationToken cancellation)
    {
        TaskReport report;
        int sent;
        lock (_gate)
        {
            sent = Math.Min(_pending.Count, 200);
            report = new TaskReport(_task, ++_number, Progress(), [.. _pending.Take(sent)], outcome) { Kept = kept };
        }
        while (true)
        {
            try
            {
                var answer = await _send(report, cancellation).ConfigureAwait(false);
                lock (_gate)
                    _pending.RemoveRange(0, sent);
                if (!answer.CarryOn && outcome is null)
                {
                    IsStoppedThere = true;
                    await _stopped.CancelAsync().ConfigureAwait(false);
                }
                return;
            }
            catch (VembarException problem) when (problem.Code == "unknown-machine")
            {
                // It was taken off the list: whatever it does is nobody's.
                IsStoppedThere = true;
                await _stopped.CancelAsync().ConfigureAwait(false);
                return;
            }
            catch (VembarException problem) when (problem.Kind == ErrorKind.Environment)
            {
                await Task.Delay(s_retry, _clock, cancellation).ConfigureAwait(false);
            }
        }
    }

    /// <inheritdoc/>
    public async ValueTask DisposeAsync()
    {
        await _ending.CancelAsync().ConfigureAwait(false);
        await _loop.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        _ending.Dispose();
        _sending.Dispose();
        _stopped.Dispose();
    }
}
