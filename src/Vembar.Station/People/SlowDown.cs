using System.Collections.Concurrent;

namespace Vembar.Station.People;

/// <summary>Who gives wrong secrets waits longer each time, up to half a minute, until it is right or ten minutes have gone by.</summary>
public sealed class SlowDown(TimeProvider clock)
{
    private const int Free = 2, MostKept = 10_000;
    private static readonly TimeSpan s_longest = TimeSpan.FromSeconds(30), s_kept = TimeSpan.FromMinutes(10);
    private readonly ConcurrentDictionary<string, (int Times, DateTimeOffset Last)> _failed = new();

    /// <summary>How long somebody has to wait now.</summary>
    /// <param name="who">Who: an address, or a machine.</param>
    public TimeSpan DelayOf(string who) => !_failed.TryGetValue(who, out var failed) || clock.GetUtcNow() - failed.Last > s_kept
        || failed.Times <= Free ? TimeSpan.Zero
        : TimeSpan.FromSeconds(Math.Min(s_longest.TotalSeconds, Math.Pow(2, failed.Times - Free - 1)));

    /// <summary>Waits as long as somebody has to.</summary>
    public Task WaitAsync(string who, CancellationToken cancellation) => DelayOf(who) is var delay && delay > TimeSpan.Zero
        ? Task.Delay(delay, clock, cancellation) : Task.CompletedTask;

    /// <summary>It was wrong.</summary>
    public void Failed(string who)
    {
        if (_failed.Count > MostKept)
        {
            foreach (var (old, _) in _failed.Where(f => clock.GetUtcNow() - f.Value.Last > s_kept))
                _failed.TryRemove(old, out _);
        }
        _failed.AddOrUpdate(who, (1, clock.GetUtcNow()), (_, before) =>
            (clock.GetUtcNow() - before.Last > s_kept ? 1 : before.Times + 1, clock.GetUtcNow()));
    }

    /// <summary>It was right.</summary>
    public void Succeeded(string who) => _failed.TryRemove(who, out _);
}
