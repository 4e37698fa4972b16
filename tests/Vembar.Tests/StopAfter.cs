using Vembar.Operations;

namespace Vembar.Tests;

/// <summary>Stops after so many reports of a phase.</summary>
/// <param name="count">How many.</param>
/// <param name="phase">The phase.</param>
public sealed class StopAfter(int count, string phase = "writing files") : IProgress<OperationProgress>, IDisposable
{
    private readonly CancellationTokenSource _stop = new();
    private int _seen;

    public CancellationToken Token => _stop.Token;

    public void Report(OperationProgress value)
    {
        if (value.Phase == phase && Interlocked.Increment(ref _seen) > count)
            _stop.Cancel();
    }

    public void Dispose() => _stop.Dispose();
}
