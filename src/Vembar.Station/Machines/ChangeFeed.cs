using System.Collections.Concurrent;
using System.Data.Common;
using Vembar.Station.Database;

namespace Vembar.Station.Machines;

/// <summary>Wakes those who wait for something to happen to machines: at once what happens here, within a second what another station
/// with the same database does.</summary>
public sealed class ChangeFeed(StationDatabase database)
{
    private static readonly TimeSpan s_look = TimeSpan.FromSeconds(1);
    private readonly ConcurrentDictionary<string, TaskCompletionSource> _waiting = new();
    private TaskCompletionSource _any = New();
    private long _last = -1;

    private static TaskCompletionSource New() => new(TaskCreationOptions.RunContinuationsAsynchronously);

    /// <summary>Tells that something happened.</summary>
    /// <param name="machine">To which machine.</param>
    public void Signal(string machine)
    {
        if (_waiting.TryRemove(machine, out var waiting))
            waiting.TrySetResult();
        Interlocked.Exchange(ref _any, New()).TrySetResult();
    }

    /// <summary>Ends when something happens to a machine after this was called.</summary>
    public Task Next(string machine) => _waiting.GetOrAdd(machine, _ => New()).Task;

    /// <summary>Ends when something happens to any machine after this was called.</summary>
    public Task NextOfAny() => Volatile.Read(ref _any).Task;

    /// <summary>Looks for what other stations do, until it is ended.</summary>
    public async Task RunAsync(CancellationToken cancellation)
    {
        using var timer = new PeriodicTimer(s_look);
        while (await timer.WaitForNextTickAsync(cancellation).ConfigureAwait(false))
        {
            try
            {
                if (_last < 0)
                    _last = (await database.QueryAsync("select coalesce(max(sequence), 0) from events", row => row.GetInt64(0),
                        cancellation).ConfigureAwait(false))[0];
                // Numbers are given before they can be seen, so a few may come late.
                const int Back = 200;
                var seen = await database.QueryAsync("select sequence, machine from events where sequence > @after order by sequence",
                    row => (Sequence: row.GetInt64(0), Machine: row.GetString(1)), cancellation,
                    ("after", Math.Max(0, _last - Back))).ConfigureAwait(false);
                foreach (var machine in seen.Where(s => _told.Add(s.Sequence)).Select(s => s.Machine).Distinct())
                    Signal(machine);
                if (seen.Count > 0)
                    _last = seen[^1].Sequence;
                _told.RemoveWhere(t => t <= _last - Back);
            }
            catch (DbException)
            {
                // It comes back, or not; whoever asks is told.
            }
        }
    }

    private readonly HashSet<long> _told = [];
}
