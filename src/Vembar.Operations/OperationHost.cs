namespace Vembar.Operations;

/// <summary>What the work of commands gets from the program that it runs in. Nothing below changes the process.</summary>
public sealed class OperationHost
{
    /// <summary>The system's clock, and memory left alone: right for a program that does several things at once.</summary>
    public static OperationHost Default { get; } = new();

    /// <summary>Where times come from that are recorded.</summary>
    public TimeProvider Clock { get; init; } = TimeProvider.System;

    /// <summary>What is done about memory.</summary>
    public IMemoryPolicy Memory { get; init; } = new NoPolicy();

    /// <summary>The time now, to be recorded.</summary>
    internal DateTime Now => Clock.GetUtcNow().UtcDateTime;

    private sealed class NoPolicy : IMemoryPolicy, IDisposable
    {
        public IDisposable BeginKeeping() => this;

        public void EndPhase(long files)
        {
        }

        public void Dispose()
        {
        }
    }
}
