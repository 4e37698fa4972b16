using System.Data.Common;
using System.Globalization;
using System.Text.Json;
using Vembar.Operations.Stations.Contract;
using Vembar.Station.Database;
using Vembar.Station.Machines;
using Vembar.Station.Problems;

namespace Vembar.Station.Waves;

/// <summary>Keeps waves. A change holds only if nobody changed the wave meanwhile.</summary>
public sealed class WaveStore(StationDatabase database)
{
    private const string Columns = "number, state, version, station, document";

    private static WaveRow Read(DbDataReader row) => new()
    {
        Number = row.GetInt64(0),
        State = Enum.Parse<WaveState>(row.GetString(1)),
        Version = row.GetInt64(2),
        Station = row.GetString(3),
        Document = JsonSerializer.Deserialize(row.GetString(4), WaveStateJson.Default.WaveDocument)!,
    };

    /// <summary>The newest waves, the newest first.</summary>
    public Task<List<WaveRow>> NewestAsync(CancellationToken cancellation) =>
        database.QueryAsync($"select {Columns} from waves order by number desc limit 100", Read, cancellation);

    /// <summary>Waves that are not over.</summary>
    public Task<List<WaveRow>> OpenAsync(CancellationToken cancellation) =>
        database.QueryAsync($"select {Columns} from waves where state in ('Waiting', 'Sending', 'Sent') order by number", Read,
            cancellation);

    /// <summary>The wave with a number.</summary>
    /// <exception cref="StationException">There is none.</exception>
    public async Task<WaveRow> FindAsync(string id, CancellationToken cancellation)
    {
        if (long.TryParse(id, NumberStyles.None, CultureInfo.InvariantCulture, out var number)
            && (await database.QueryAsync($"select {Columns} from waves where number = @number", Read, cancellation, ("number", number))
            .ConfigureAwait(false)) is [var row])
            return row;
        throw StationException.NotFound("no-such-wave", $"the station knows no wave '{id}'",
            "List them with `vembar station wave status`.");
    }

    /// <summary>Adds a wave.</summary>
    public async Task<WaveRow> AddAsync(string station, WaveDocument document, CancellationToken cancellation) =>
        (await database.WriteAsync(write => write.QueryAsync("insert into waves (state, version, station, document) "
            + $"values (@state, 1, @station, @document) returning {Columns}", Read, ("state", $"{WaveState.Waiting}"), ("station", station),
            ("document", JsonSerializer.Serialize(document, WaveStateJson.Default.WaveDocument))),
                cancellation).ConfigureAwait(false))[0];

    /// <summary>Changes a wave; made again when somebody else changed it meanwhile.</summary>
    /// <param name="id">The wave.</param>
    /// <param name="change">Says what becomes of it; null for nothing. It may be called several times.</param>
    /// <param name="cancellation">Ends it.</param>
    public async Task<WaveRow> ChangeAsync(string id, Func<WaveRow, WaveRow?> change, CancellationToken cancellation)
    {
        while (true)
        {
            var row = await FindAsync(id, cancellation).ConfigureAwait(false);
            if (change(row) is not { } made)
                return row;
            var count = await database.ExecuteAsync("update waves set state = @state, version = version + 1, station = @station, "
                + "document = @document where number = @number and version = @version", cancellation, ("state", $"{made.State}"),
                ("station", made.Station), ("document", JsonSerializer.Serialize(made.Document, WaveStateJson.Default.WaveDocument)),
                ("number", row.Number), ("version", row.Version)).ConfigureAwait(false);
            if (count > 0)
                return made with { Version = row.Version + 1 };
        }
    }
}
