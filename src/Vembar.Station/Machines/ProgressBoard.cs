using System.Collections.Concurrent;
using System.Data.Common;
using System.Text.Json;
using Vembar.Operations.Stations.Contract;
using Vembar.Station.Database;

namespace Vembar.Station.Machines;

/// <summary>How far machines are, and when they were last heard of. It changes all the time and is worth little afterwards, so it is kept
/// for all machines together, once a second.</summary>
public sealed class ProgressBoard(StationDatabase database, TimeProvider clock, ChangeFeed feed)
{
    private static readonly TimeSpan s_keep = TimeSpan.FromSeconds(1);
    private readonly ConcurrentDictionary<string, (string Task, int Number, TaskProgress Progress)> _known = new();
    private readonly ConcurrentDictionary<string, DateTime> _seen = new();
    private readonly ConcurrentDictionary<string, bool> _changed = new();

    /// <summary>Notes that a machine was heard of.</summary>
    public void Hear(string machine)
    {
        _seen[machine] = clock.GetUtcNow().UtcDateTime;
        _changed[machine] = true;
    }

    /// <summary>When a machine was last heard of here; null for not since this station runs.</summary>
    public DateTime? Heard(string machine) => _seen.TryGetValue(machine, out var seen) ? seen : null;

    /// <summary>Notes how far a machine is; a report that comes late changes nothing.</summary>
    public void Note(string machine, string task, int number, TaskProgress progress)
    {
        _known.AddOrUpdate(machine, (task, number, progress), (_, before) =>
            before.Task == task && before.Number >= number ? before : (task, number, progress));
        _changed[machine] = true;
        feed.Signal(machine);
    }

    /// <summary>How far a machine is with its task; what other stations keep included.</summary>
    public async Task<(string Task, TaskProgress Progress)?> FindAsync(string machine, CancellationToken cancellation)
    {
        var kept = await database.QueryAsync("select task, number, document from progress where machine = @machine",
            row => (Task: row.GetString(0), Number: (int)row.GetInt64(1),
                Progress: JsonSerializer.Deserialize(row.GetString(2), StationStateJson.Default.TaskProgress)!), cancellation,
            ("machine", machine)).ConfigureAwait(false);
        if (_known.TryGetValue(machine, out var known) && (kept.Count == 0 || kept[0].Task != known.Task || kept[0].Number < known.Number))
            return (known.Task, known.Progress);
        return kept.Count > 0 ? (kept[0].Task, kept[0].Progress) : null;
    }

    /// <summary>How far machines are with their tasks; what other stations keep included.</summary>
    public async Task<Dictionary<string, (string Task, TaskProgress Progress)>> AllAsync(CancellationToken cancellation)
    {
        var all = new Dictionary<string, (string Task, int Number, TaskProgress Progress)>();
        foreach (var (machine, kept) in await database.QueryAsync("select machine, task, number, document from progress",
            row => (row.GetString(0), (row.GetString(1), (int)row.GetInt64(2),
            JsonSerializer.Deserialize(row.GetString(3), StationStateJson.Default.TaskProgress)!)), cancellation).ConfigureAwait(false))
            all[machine] = kept;
        foreach (var (machine, known) in _known)
        {
            if (!all.TryGetValue(machine, out var kept) || kept.Task != known.Task || kept.Number < known.Number)
                all[machine] = known;
        }
        return all.ToDictionary(p => p.Key, p => (p.Value.Task, p.Value.Progress));
    }

    /// <summary>Keeps what has changed, until it is ended.</summary>
    public async Task RunAsync(CancellationToken cancellation)
    {
        using var timer = new PeriodicTimer(s_keep);
        try
        {
            while (await timer.WaitForNextTickAsync(cancellation).ConfigureAwait(false))
                await KeepAsync(cancellation).ConfigureAwait(false);
        }
        finally
        {
            await KeepAsync(CancellationToken.None).ConfigureAwait(false);
        }
    }

    private async Task KeepAsync(CancellationToken cancellation)
    {
        var changed = _changed.Keys.ToList();
        if (changed.Count == 0)
            return;
        foreach (var machine in changed)
            _changed.TryRemove(machine, out _);
        try
        {
            await database.WriteAsync(async write =>
            {
                foreach (var machine in changed)
                {
                    if (_seen.TryGetValue(machine, out var seen))
                        await write.ExecuteAsync("update machines set seen = @seen where id = @id", ("seen", DbTime.Of(seen)),
                            ("id", machine)).ConfigureAwait(false);
                    if (_known.TryGetValue(machine, out var known))
                        await write.ExecuteAsync("insert into progress (machine, task, number, document) "
                            + "values (@machine, @task, @number, @document) on conflict (machine) do update set task = excluded.task, "
                            + "number = excluded.number, document = excluded.document "
                            + "where excluded.task <> progress.task or excluded.number > progress.number", ("machine", machine),
                            ("task", known.Task), ("number", (long)known.Number),
                            ("document", JsonSerializer.Serialize(known.Progress, StationStateJson.Default.TaskProgress)))
                            .ConfigureAwait(false);
                }
                return 0;
            }, cancellation).ConfigureAwait(false);
        }
        catch (DbException)
        {
            foreach (var machine in changed)
                _changed[machine] = true;
        }
    }
}
