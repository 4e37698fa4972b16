using System.Collections.Concurrent;
using System.Diagnostics;
using System.Globalization;
using Vembar.Operations.Stations;
using Vembar.Operations.Stations.Contract;
using Vembar.Store.Places.Remote;

/// <summary>Machines that only speak: they join a station, ask what to do, and report.</summary>
/// <param name="address">The station.</param>
/// <param name="authority">Who vouches for it.</param>
/// <param name="token">An administrator's token.</param>
/// <param name="spool">A folder that is nobody's.</param>
internal sealed class FleetLoad(string address, string authority, string token, string spool)
{
    private readonly ConcurrentBag<double> _times = [];

    private StationClient Client(string secret) => new(address, new PlaceOptions
    {
        CaFile = authority,
        SpoolFolder = spool,
        Credentials = _ => new PlaceCredentials("", secret, IsToken: true),
    });

    private async Task<T> TimedAsync<T>(Task<T> asked, long began)
    {
        var answer = await asked.ConfigureAwait(false);
        _times.Add(Stopwatch.GetElapsedTime(began).TotalSeconds);
        return answer;
    }

    /// <summary>Says which images machines get that are not there yet, by their serial numbers.</summary>
    public async Task ListAsync(IEnumerable<(string Serial, string Image)> machines)
    {
        using var people = Client(token);
        await people.ImportAsync([.. machines.Select(m => new ImportRow(m.Serial, "", "", m.Image, new Dictionary<string, string>()))],
            CancellationToken.None).ConfigureAwait(false);
    }

    /// <summary>Lets so many machines work for so long, a report each every two seconds.</summary>
    /// <returns>The 99th percentile of what requests took, in seconds; how many requests; how many events were lost.</returns>
    public async Task<(double P99, int Requests, int Lost)> RunAsync(int machines, TimeSpan time)
    {
        using var people = Client(token);
        var ids = new ConcurrentBag<(string Machine, int Events)>();
        await Task.WhenAll(Enumerable.Range(0, machines).Select(async number =>
        {
            // Not all in the same moment: they are switched on one after the other.
            await Task.Delay(TimeSpan.FromSeconds(10.0 * number / machines)).ConfigureAwait(false);
            using var anyone = Client("none");
            var report = new MachineReport
            {
                Identity = new MachineIdentity { Serial = string.Create(CultureInfo.InvariantCulture, $"LOAD-{number:00000}") },
                Disks = [new ReportedDisk("/dev/sda", 64L << 30, "", [])],
            };
            var joined = await TimedAsync(anyone.JoinAsync(new JoinRequest(report, null), CancellationToken.None),
                Stopwatch.GetTimestamp()).ConfigureAwait(false);
            using var machine = Client(joined.Key);
            PollAnswer told;
            do
                told = await TimedAsync(machine.PollAsync(null, CancellationToken.None), Stopwatch.GetTimestamp()).ConfigureAwait(false);
            while (told.Task is null);
            var task = told.Task;
            var clock = Stopwatch.StartNew();
            var (reports, events) = (0, 0);
            while (clock.Elapsed < time)
            {
                TaskEvent[] happened = reports % 10 == 0 ? [new TaskEvent(++events, DateTime.UtcNow, "info", "something happened")] : [];
                await TimedAsync(machine.ReportAsync(new TaskReport(task.Id, ++reports,
                    new TaskProgress("writing files", reports, 1000, true,
                    1, 1), happened, null), CancellationToken.None), Stopwatch.GetTimestamp()).ConfigureAwait(false);
                await Task.Delay(TimeSpan.FromSeconds(2)).ConfigureAwait(false);
            }
            await machine.ReportAsync(new TaskReport(task.Id, ++reports, null, [], new TaskOutcome { Done = true }), CancellationToken.None)
                .ConfigureAwait(false);
            ids.Add((joined.Machine, events));
        })).ConfigureAwait(false);
        var lost = 0;
        foreach (var (id, events) in ids)
            lost += events - (await people.EventsAsync(id, 0, CancellationToken.None).ConfigureAwait(false)).Count(e => e.Kind == "log");
        var sorted = _times.Order().ToList();
        return (sorted[(int)(sorted.Count * 0.99)], sorted.Count, lost + machines - ids.Count);
    }
}
