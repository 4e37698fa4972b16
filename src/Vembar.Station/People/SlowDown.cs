using System.Collections.Concurrent;
using Vembar.Station.Problems;

namespace Vembar.Station.People;

/// <summary>Who gives wrong secrets waits longer each time, up to half a minute, until one is right or ten minutes have gone by. One try at
/// a time: many at once are no quicker.</summary>
public sealed class SlowDown(TimeProvider clock)
{
    private const int Free = 2, MostWaiting = 4, MostKept = 10_000;
    private static readonly TimeSpan s_longest = TimeSpan.FromSeconds(30), s_kept = TimeSpan.FromMinutes(10);
    private readonly ConcurrentDictionary<string, Record> _records = new();

    private sealed class Record
    {
        public SemaphoreSlim Gate { get; } = new(1);
        public int Waiting;
        public int Failed;
        public DateTimeOffset Last;
    }

    /// <summary>How long somebody has to wait before a try.</summary>
    /// <param name="who">Who: an address, a machine, a token.</param>
    public TimeSpan DelayOf(string who) => _records.TryGetValue(who, out var record) ? DelayOf(record) : TimeSpan.Zero;

    private TimeSpan DelayOf(Record record) => clock.GetUtcNow() - record.Last > s_kept || record.Failed <= Free ? TimeSpan.Zero
        : TimeSpan.FromSeconds(Math.Min(s_longest.TotalSeconds, Math.Pow(2, record.Failed - Free - 1)));

    /// <summary>Lets somebody try, after the time that they have to wait.</summary>
    /// <param name="who">Who.</param>
    /// <param name="attempt">Tries; null for wrong.</param>
    /// <param name="cancellation">Ends the waiting.</param>
    /// <returns>What the try gave.</returns>
    /// <exception cref="StationException">Too many try at once.</exception>
    public async Task<T?> TryAsync<T>(string who, Func<Task<T?>> attempt, CancellationToken cancellation)
        where T : class
    {
        ForgetOld();
        var record = _records.GetOrAdd(who, _ => new Record());
        if (Interlocked.Increment(ref record.Waiting) > MostWaiting)
        {
            Interlocked.Decrement(ref record.Waiting);
            throw StationException.Of(429, "too-many-tries", "too many try to sign in at once", "Wait a moment.");
        }
        try
        {
            await record.Gate.WaitAsync(cancellation).ConfigureAwait(false);
            try
            {
                await Task.Delay(DelayOf(record), clock, cancellation).ConfigureAwait(false);
                var result = await attempt().ConfigureAwait(false);
                record.Failed = result is not null ? 0 : clock.GetUtcNow() - record.Last > s_kept ? 1 : record.Failed + 1;
                record.Last = clock.GetUtcNow();
                return result;
            }
            finally
            {
                record.Gate.Release();
            }
        }
        finally
        {
            Interlocked.Decrement(ref record.Waiting);
        }
    }

    private void ForgetOld()
    {
        if (_records.Count <= MostKept)
            return;
        foreach (var (who, record) in _records)
        {
            if (record.Waiting == 0 && clock.GetUtcNow() - record.Last > s_kept)
                _records.TryRemove(who, out _);
        }
    }
}
