using System.Diagnostics;
using System.Globalization;
using Vembar.Operations;

namespace Vembar.Cli;

/// <summary>
/// Progress on standard error: one line that is written over on a terminal, a line every ten seconds elsewhere.
/// </summary>
internal sealed class Progress(TextWriter error, bool isTerminal, bool isQuiet, Action<string> phaseBegan)
    : IProgress<OperationProgress>, IDisposable
{
    private static readonly TimeSpan s_terminalPace = TimeSpan.FromMilliseconds(100), s_pipedPace = TimeSpan.FromSeconds(10);
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
            var line = Line(value with { Done = _highest }, now - _phaseStart);
            if (!isTerminal)
            {
                error.WriteLine(line);
                return;
            }
            var width = Math.Max(Width() - 1, 20);
            error.Write($"\r{(line.Length > width ? line[..width] : line)}\u001b[K");
            _lineOpen = true;
        }
    }

    private static int Width()
    {
        try
        {
            return Console.WindowWidth is > 0 and var width ? width : 80;
        }
        catch (IOException)
        {
            return 80;
        }
    }

    private static string Line(OperationProgress value, TimeSpan elapsed)
    {
        string Amount(long amount) => value.InBytes ? Text.Size(amount) : Text.Number(amount);
        var parts = new List<string> { value.Phase };
        if (value.Total > 0)
        {
            const int Width = 20;
            var share = Math.Clamp((double)value.Done / value.Total, 0, 1);
            var filled = (int)(share * Width);
            parts.Add($"[{new string('=', filled)}{new string(' ', Width - filled)}] "
                + $"{(share * 100).ToString("0", CultureInfo.InvariantCulture)} %");
            parts.Add($"{Amount(value.Done)} of {Amount(value.Total)}");
            var seconds = elapsed.TotalSeconds;
            if (value.Done > 0 && seconds > 0.5)
            {
                var speed = value.Done / seconds;
                if (value.InBytes)
                    parts.Add($"{Text.Size((long)speed)}/s");
                parts.Add($"{Text.Duration((value.Total - value.Done) / speed)} left");
            }
        }
        else if (value.Done > 0)
            parts.Add(Amount(value.Done));
        if (value.Current is { Length: > 0 })
            parts.Add(Text.Safe(value.Current));
        return string.Join("  ", parts);
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
