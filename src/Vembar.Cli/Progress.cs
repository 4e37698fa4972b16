using System.Diagnostics;
using Vembar.Operations;

namespace Vembar.Cli;

/// <summary>
/// Progress on standard error: one line that is written over on a terminal, a line every ten seconds elsewhere. A step of long work that is
/// done leaves a line on a terminal, so that one sees what is behind one.
/// </summary>
internal sealed class Progress(TextWriter error, bool isTerminal, bool isPlain, bool isQuiet, Action<string> phaseBegan)
    : IProgress<OperationProgress>, IDisposable
{
    private static readonly TimeSpan s_terminalPace = TimeSpan.FromMilliseconds(100), s_pipedPace = TimeSpan.FromSeconds(10);
    private static readonly TimeSpan s_longStep = TimeSpan.FromSeconds(1);
    private const int OfFiles = 200;
    private readonly Lock _gate = new();
    private readonly Stopwatch _clock = Stopwatch.StartNew();
    private string _phase = "";
    private TimeSpan _phaseStart;
    private TimeSpan _lastShown;
    private OperationProgress _highest;
    private bool _lineOpen;

    public void Report(OperationProgress value)
    {
        lock (_gate)
        {
            var now = _clock.Elapsed;
            if (value.Phase != _phase)
            {
                LeaveStep(now);
                _phase = value.Phase;
                _phaseStart = now;
                _highest = default;
                phaseBegan(value.Phase);
            }
            // Reports of several threads may overtake each other.
            _highest = value with { Done = Math.Max(_highest.Done, value.Done) };
            if (isQuiet || now - _lastShown < (isTerminal ? s_terminalPace : s_pipedPace))
                return;
            _lastShown = now;
            var line = ProgressLine.Of(_highest, now - _phaseStart, isTerminal ? Terminal.Width - 1 : OfFiles);
            error.Write(isTerminal ? $"\r{line}\u001b[K" : $"{line}\n");
            if (!isTerminal)
                return;
            _lineOpen = true;
        }
    }

    /// <summary>The step at hand is done, and with it the work that it belongs to.</summary>
    public void Finish()
    {
        lock (_gate)
        {
            LeaveStep(_clock.Elapsed);
            _phase = "";
        }
    }

    private void LeaveStep(TimeSpan now)
    {
        if (!isTerminal || isQuiet || _phase.Length == 0 || now - _phaseStart < s_longStep)
            return;
        var step = ProgressLine.OfStep(_highest, now - _phaseStart, Terminal.Width - 1);
        error.Write($"\r{(isPlain ? step : $"{Styles.ByMeaning(step[..4])}{step[4..]}")}\u001b[K\n");
        _lineOpen = false;
    }

    /// <summary>Takes the line away, so that what follows begins on a clean one.</summary>
    public void Clear()
    {
        lock (_gate)
        {
            if (_lineOpen)
                error.Write("\r\u001b[K");
            _lineOpen = false;
        }
    }

    public void Dispose() => Clear();
}
