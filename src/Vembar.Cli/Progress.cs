using System.Diagnostics;
using Vembar.Operations;

namespace Vembar.Cli;

/// <summary>
/// Progress on standard error: one line that is written over on a terminal, a line every ten seconds elsewhere.
/// </summary>
internal sealed class Progress(TextWriter error, bool isTerminal, bool isQuiet, Action<string> phaseBegan)
    : IProgress<OperationProgress>, IDisposable
{
    private static readonly TimeSpan s_terminalPace = TimeSpan.FromMilliseconds(100), s_pipedPace = TimeSpan.FromSeconds(10);
    private const int OfFiles = 200;
    private readonly Lock _gate = new();
    private readonly Stopwatch _clock = Stopwatch.StartNew();
    private string _phase = "";
    private TimeSpan _phaseStart;
    private TimeSpan _lastShown;
    private long _highest;
    private bool _lineOpen;

    public void Report(OperationProgress value)
    {
        lock (_gate)
        {
            var now = _clock.Elapsed;
            if (value.Phase != _phase)
            {
                _phase = value.Phase;
                _phaseStart = now;
                _highest = 0;
                phaseBegan(value.Phase);
            }
            // Reports of several threads may overtake each other.
            _highest = Math.Max(_highest, value.Done);
            if (isQuiet || now - _lastShown < (isTerminal ? s_terminalPace : s_pipedPace))
                return;
            _lastShown = now;
            var line = ProgressLine.Of(value with { Done = _highest }, now - _phaseStart, isTerminal ? Terminal.Width - 1 : OfFiles);
            error.Write(isTerminal ? $"\r{line}\u001b[K" : $"{line}\n");
            if (!isTerminal)
                return;
            _lineOpen = true;
        }
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
