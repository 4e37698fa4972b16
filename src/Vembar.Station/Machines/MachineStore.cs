using System.Data.Common;
using System.Text.Json;
using Vembar.Operations.Stations.Contract;
using Vembar.Station.Database;
using Vembar.Station.Problems;

namespace Vembar.Station.Machines;

/// <summary>Keeps machines and what happened to them. A change holds only if nobody changed the machine meanwhile.</summary>
public sealed class MachineStore(StationDatabase database, TimeProvider clock, ChangeFeed feed)
{
    private const string Columns = "id, identifier, state, version, key_hash, seen, document, fills";

    private static StationStateJson Json => StationStateJson.Default;

    private static MachineRow Read(DbDataReader row) => new()
    {
        Id = row.GetString(0),
        Identifier = row.GetString(1),
        State = Enum.Parse<MachineState>(row.GetString(2)),
        Version = row.GetInt64(3),
        KeyHash = row.TextAt(4),
        Seen = row.TimeAt(5),
        Document = JsonSerializer.Deserialize(row.GetString(6), Json.MachineDocument)!,
        Fills = row.TextAt(7) is { } fills ? JsonSerializer.Deserialize(fills, Json.DictionaryStringString) : null,
    };

    /// <summary>All machines.</summary>
    public Task<List<MachineRow>> AllAsync(CancellationToken cancellation) =>
        database.QueryAsync($"select {Columns} from machines order by id", Read, cancellation);

    /// <summary>The machine with an id; null for none.</summary>
    public async Task<MachineRow?> FindAsync(string id, CancellationToken cancellation) =>
        (await database.QueryAsync($"select {Columns} from machines where id = @id", Read, cancellation, ("id", id)).ConfigureAwait(false))
        .FirstOrDefault();

    /// <summary>The machine that has a key; null for none.</summary>
    public async Task<MachineRow?> FindByKeyAsync(string keyHash, CancellationToken cancellation) =>
        (await database.QueryAsync($"select {Columns} from machines where key_hash = @hash", Read, cancellation, ("hash", keyHash))
        .ConfigureAwait(false)).FirstOrDefault();

    /// <summary>The machine that is known by one of several identifiers, the first that there is one of; null for none.</summary>
    public async Task<MachineRow?> FindByIdentifierAsync(IReadOnlyList<string> identifiers, CancellationToken cancellation)
    {
        foreach (var identifier in identifiers)
        {
            var found = await database.QueryAsync($"select {Columns} from machines where identifier = @identifier", Read, cancellation,
                ("identifier", identifier)).ConfigureAwait(false);
            if (found.Count > 0)
                return found[0];
        }
        return null;
    }

    /// <summary>The machine that people mean: its id, name, serial number, UUID or a network address; a beginning of any of them that no
    /// other machine has will do.</summary>
    /// <exception cref="StationException">There is none, or there are several.</exception>
    public async Task<MachineRow> NamedAsync(string text, CancellationToken cancellation)
    {
        // As scripts and pages name it.
        if (await FindAsync(text, cancellation).ConfigureAwait(false) is { } byId)
            return byId;
        var all = await AllAsync(cancellation).ConfigureAwait(false);
        static IEnumerable<string> Words(MachineRow row) =>
            new[] { row.Id, row.Document.Assignment.Name, row.Document.Identity.Uuid, row.Document.Identity.Serial,
                row.Identifier[(row.Identifier.IndexOf(':') + 1)..] }.Concat(row.Document.Identity.Addresses).Where(w => w.Length > 0);
        if (all.Where(r => Words(r).Contains(text, StringComparer.OrdinalIgnoreCase)).ToList() is [var exact])
            return exact;
        var near = all.Where(r => text.Length > 0 && Words(r).Any(w => w.StartsWith(text, StringComparison.OrdinalIgnoreCase))).ToList();
        return near switch
        {
            [var one] => one,
            [] => throw StationException.NotFound("no-such-machine", $"the station knows no machine '{text}'",
                "List them with `vembar station machines`."),
            _ => throw StationException.Conflict("several-machines", $"'{text}' can be {near.Count} machines",
                "Say more of its name or number.", [.. near.Take(10).Select(r => $"{r.Id} {r.DisplayName}")]),
        };
    }

    /// <summary>Whether another machine has a name.</summary>
    public async Task<MachineRow?> FindByNameAsync(string name, CancellationToken cancellation) =>
        (await database.QueryAsync($"select {Columns} from machines where name_key = @name", Read, cancellation, ("name", KeyOf(name)))
        .ConfigureAwait(false)).FirstOrDefault();

    /// <summary>The names that machines have, in capitals.</summary>
    public async Task<IReadOnlySet<string>> NamesAsync(CancellationToken cancellation) =>
        (await database.QueryAsync("select name_key from machines where name_key is not null", row => row.GetString(0), cancellation)
        .ConfigureAwait(false)).ToHashSet(StringComparer.Ordinal);

    private static string? KeyOf(string name) => name.Length == 0 ? null : name.ToUpperInvariant();

    /// <summary>Adds a machine.</summary>
    /// <returns>False when another one is known by the same.</returns>
    public async Task<bool> TryAddAsync(MachineChange change, CancellationToken cancellation)
    {
        var row = change.Row;
        var added = await database.WriteAsync(async write =>
        {
            var count = await write.ExecuteAsync($"insert into machines ({Columns}, name_key) "
                + "values (@id, @identifier, @state, 1, @key, @seen, @document, @fills, @name) on conflict do nothing", Values(row))
                .ConfigureAwait(false);
            if (count > 0)
                await NoteAsync(write, row.Id, change.Events).ConfigureAwait(false);
            return count > 0;
        }, cancellation).ConfigureAwait(false);
        if (added)
            feed.Signal(row.Id);
        return added;
    }

    private static (string, object?)[] Values(MachineRow row) =>
    [
        ("id", row.Id), ("identifier", row.Identifier), ("state", row.State.ToString()), ("version", row.Version), ("key", row.KeyHash),
        ("seen", row.Seen is { } seen ? DbTime.Of(seen) : null),
        ("document", JsonSerializer.Serialize(row.Document, Json.MachineDocument)),
        ("fills", row.Fills is { Count: > 0 } fills
            ? JsonSerializer.Serialize(new Dictionary<string, string>(fills), Json.DictionaryStringString) : null),
        ("name", KeyOf(row.Document.Assignment.Name)),
    ];

    /// <summary>Changes a machine; made again when somebody else changed it meanwhile.</summary>
    /// <param name="id">The machine.</param>
    /// <param name="change">Says what becomes of it; null for nothing. It may be called several times.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <returns>The machine as it is then; null when it is gone.</returns>
    public async Task<MachineRow?> ChangeAsync(string id, Func<MachineRow, MachineChange?> change, CancellationToken cancellation)
    {
        const int Most = 20;
        for (var attempt = 0; ; attempt++)
        {
            if (await FindAsync(id, cancellation).ConfigureAwait(false) is not { } row)
                return null;
            if (change(row) is not { } made)
                return row;
            if (await TryChangeAsync(row, made, cancellation).ConfigureAwait(false) is { } changed)
                return changed;
            if (attempt == Most)
                throw StationException.Of(503, "busy", $"{row.DisplayName} is being changed all the time", "Try again.");
        }
    }

    private async Task<MachineRow?> TryChangeAsync(MachineRow before, MachineChange change, CancellationToken cancellation)
    {
        var row = change.Row;
        if (row.State != before.State)
            row = row with { Document = row.Document with { Since = clock.GetUtcNow().UtcDateTime } };
        try
        {
            var isChanged = await database.WriteAsync(async write =>
            {
                var count = await write.ExecuteAsync("update machines set identifier = @identifier, state = @state, version = version + 1, "
                    + "key_hash = @key, seen = @seen, document = @document, fills = @fills, name_key = @name "
                    + "where id = @id and version = @version", Values(row with { Version = before.Version })).ConfigureAwait(false);
                if (count > 0)
                    await NoteAsync(write, row.Id, change.Events).ConfigureAwait(false);
                return count > 0;
            }, cancellation).ConfigureAwait(false);
            if (!isChanged)
                return null;
            feed.Signal(row.Id);
            return row with { Version = before.Version + 1 };
        }
        catch (DbException failure) when (IsUniqueness(failure) && row.Document.Assignment.Name.Length > 0
            && row.Document.Assignment.Name != before.Document.Assignment.Name)
        {
            throw StationException.Conflict("name-taken", $"another machine is called '{row.Document.Assignment.Name}'",
                "Choose another name.");
        }
    }

    // PostgreSQL's unique_violation, and SQLite's constraint error.
    private static bool IsUniqueness(DbException failure) => failure.SqlState == "23505"
        || failure is Microsoft.Data.Sqlite.SqliteException { SqliteErrorCode: 19 };

    private async Task<int> NoteAsync(DbWork write, string machine, IReadOnlyList<NewEvent> events)
    {
        var time = DbTime.Of(clock.GetUtcNow().UtcDateTime);
        var noted = 0;
        foreach (var happened in events)
        {
            noted += await write.ExecuteAsync("insert into events (machine, time, kind, level, text, who, source) "
                + "values (@machine, @time, @kind, @level, @text, @who, @source) on conflict (source) do nothing", ("machine", machine),
                ("time", time), ("kind", happened.Kind), ("level", happened.Level), ("text", happened.Text), ("who", happened.Who),
                ("source", happened.Source)).ConfigureAwait(false);
        }
        return noted;
    }

    /// <summary>Notes events without changing the machine.</summary>
    public async Task NoteAsync(string machine, IReadOnlyList<NewEvent> events, CancellationToken cancellation)
    {
        await database.WriteAsync(write => NoteAsync(write, machine, events), cancellation).ConfigureAwait(false);
        feed.Signal(machine);
    }

    /// <summary>Takes a machine off the list; what happened to it stays.</summary>
    public async Task RemoveAsync(string id, NewEvent happened, CancellationToken cancellation)
    {
        await database.WriteAsync(async write =>
        {
            await write.ExecuteAsync("delete from progress where machine = @id", ("id", id)).ConfigureAwait(false);
            await write.ExecuteAsync("delete from machines where id = @id", ("id", id)).ConfigureAwait(false);
            return await NoteAsync(write, id, [happened]).ConfigureAwait(false);
        }, cancellation).ConfigureAwait(false);
        feed.Signal(id);
    }

    /// <summary>What happened, the oldest first.</summary>
    /// <param name="machine">To which machine; null for all.</param>
    /// <param name="after">Events behind this number alone.</param>
    /// <param name="most">So many at most.</param>
    /// <param name="cancellation">Ends it.</param>
    public Task<List<MachineEvent>> EventsAsync(string? machine, long after, int most, CancellationToken cancellation) =>
        database.QueryAsync("select sequence, machine, time, kind, level, text, who from events where sequence > @after "
            + (machine is null ? "" : "and machine = @machine ") + "order by sequence limit @most",
            row => new MachineEvent(row.GetInt64(0), row.GetString(1), row.TimeAt(2)!.Value, row.GetString(3), row.GetString(4),
                row.GetString(5), row.GetString(6)), cancellation,
            [("after", after), ("most", (long)most), .. machine is null ? Array.Empty<(string, object?)>() : [("machine", machine)]]);

    /// <summary>The number of the last event.</summary>
    public async Task<long> LastEventAsync(CancellationToken cancellation) =>
        (await database.QueryAsync("select coalesce(max(sequence), 0) from events", row => row.GetInt64(0), cancellation)
        .ConfigureAwait(false))[0];
}
