using System.Data.Common;
using Vembar.Station.Database;

namespace Vembar.Station.Machines;

/// <summary>Which stations share a database: each says every few seconds that it is there.</summary>
public sealed class StationRegister(StationDatabase database, TimeProvider clock)
{
    private static readonly TimeSpan s_often = TimeSpan.FromSeconds(5), s_gone = TimeSpan.FromSeconds(30);
    private IReadOnlyList<string> _known = [];

    /// <summary>Addresses that this station is reached at; set before it is listed.</summary>
    public IReadOnlyList<string> Own { get; set; } = [];

    /// <summary>Addresses of this station and of all others that are there.</summary>
    public IReadOnlyList<string> All => [.. Own.Concat(_known).Distinct()];

    /// <summary>Says that this station is there, and looks who else is.</summary>
    public async Task UpdateAsync(CancellationToken cancellation)
    {
        var now = clock.GetUtcNow().UtcDateTime;
        await database.WriteAsync(async write =>
        {
            foreach (var address in Own)
                await write.ExecuteAsync("insert into stations (address, seen) values (@address, @now) "
                    + "on conflict (address) do update set seen = excluded.seen", ("address", address), ("now", DbTime.Of(now)))
                    .ConfigureAwait(false);
            return true;
        }, cancellation).ConfigureAwait(false);
        await LookAsync(cancellation).ConfigureAwait(false);
    }

    /// <summary>Looks which others are there.</summary>
    public async Task LookAsync(CancellationToken cancellation) =>
        _known = await database.QueryAsync("select address from stations where seen > @then order by address", row => row.GetString(0),
            cancellation, ("then", DbTime.Of(clock.GetUtcNow().UtcDateTime - s_gone))).ConfigureAwait(false);

    /// <summary>Does so until it is ended.</summary>
    public async Task RunAsync(CancellationToken cancellation)
    {
        using var timer = new PeriodicTimer(s_often);
        while (await timer.WaitForNextTickAsync(cancellation).ConfigureAwait(false))
        {
            try
            {
                await UpdateAsync(cancellation).ConfigureAwait(false);
            }
            catch (DbException)
            {
                // The next time, then.
            }
        }
    }
}
