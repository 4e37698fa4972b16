using Vembar.Operations.Stations.Contract;
using Vembar.Station.Database;

namespace Vembar.Station.People;

/// <summary>What was done at the station, by whom, from where. Nothing is taken out of it.</summary>
public sealed class AuditLog(StationDatabase database, TimeProvider clock)
{
    private const int MostListed = 1000;

    /// <summary>Notes something.</summary>
    public Task NoteAsync(string who, string address, string action, string subject, string text, CancellationToken cancellation) =>
        database.ExecuteAsync("insert into audit (time, who, address, action, subject, text) "
            + "values (@time, @who, @address, @action, @subject, @text)", cancellation, ("time", DbTime.Of(clock.GetUtcNow().UtcDateTime)),
            ("who", who), ("address", address), ("action", action), ("subject", subject), ("text", text));

    /// <summary>What was noted, the newest first.</summary>
    /// <param name="before">Only what was noted before this one; null for the newest.</param>
    /// <param name="cancellation">Ends it.</param>
    public async Task<IReadOnlyList<AuditEntry>> ListAsync(long? before, CancellationToken cancellation) =>
        await database.QueryAsync("select sequence, time, who, address, action, subject, text from audit where sequence < @before "
            + "order by sequence desc limit @most",
            row => new AuditEntry(row.GetInt64(0), row.TimeAt(1)!.Value, row.GetString(2), row.GetString(3), row.GetString(4),
                row.GetString(5), row.GetString(6)), cancellation, ("before", before ?? long.MaxValue),
                ("most", (long)MostListed)).ConfigureAwait(false);
}
