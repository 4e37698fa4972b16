using System.Data.Common;
using Microsoft.Extensions.Caching.Memory;
using Vembar.Operations.Stations.Contract;
using Vembar.Station.Database;
using Vembar.Station.Problems;

namespace Vembar.Station.People;

/// <summary>Who may do what: tokens that were given out, and the sessions of the web page.</summary>
public sealed class TokenStore(StationDatabase database, TimeProvider clock) : IDisposable
{
    private static readonly TimeSpan s_session = TimeSpan.FromHours(12), s_usedAgain = TimeSpan.FromMinutes(5),
        s_trusted = TimeSpan.FromSeconds(10);
    private const int LongestName = 100;

    // Archives are read with many requests; also while the database is away.
    private readonly MemoryCache _known = new(new MemoryCacheOptions { SizeLimit = 10_000 });

    private DateTime Now => clock.GetUtcNow().UtcDateTime;

    private static TokenInfo Read(DbDataReader row) => new(row.GetString(0), Enum.Parse<Role>(row.GetString(1)), row.TimeAt(2)!.Value,
        row.GetString(3), row.TimeAt(4), row.TimeAt(5), !row.IsDBNull(6));

    private const string Columns = "name, role, created, made_by, until, used, pin";

    /// <summary>All tokens.</summary>
    public async Task<IReadOnlyList<TokenInfo>> ListAsync(CancellationToken cancellation) =>
        await database.QueryAsync($"select {Columns} from tokens order by name", Read, cancellation).ConfigureAwait(false);

    /// <summary>Makes a token.</summary>
    /// <exception cref="StationException">There is one of that name, or it cannot be made so.</exception>
    public async Task<NewToken> AddAsync(TokenOrder order, string by, CancellationToken cancellation)
    {
        if (order?.Name is not { Length: > 0 and <= LongestName } || order.Name.Any(char.IsControl) || order.Name.Trim() != order.Name)
            throw StationException.Bad("bad-name", $"'{order?.Name}' cannot be the name of a token", "Give it a short name in one line.");
        if (order.Until <= Now)
            throw StationException.Bad("bad-date", "the token would have ended already", "Give a date that is to come.");
        var secret = Secrets.Make("vst");
        var pin = order.WithPin ? Secrets.MakePin() : null;
        var made = await database.ExecuteAsync(
            "insert into tokens (name, hash, role, created, made_by, until, pin) values (@name, @hash, @role, @created, @by, @until, @pin) "
            + "on conflict (name) do nothing", cancellation, ("name", order.Name), ("hash", Secrets.Hash(secret)),
            ("role", order.Role.ToString()), ("created", DbTime.Of(Now)), ("by", by),
            ("until", order.Until is { } until ? DbTime.Of(until) : null), ("pin", pin is null ? null : Secrets.HashPin(pin)))
            .ConfigureAwait(false);
        if (made == 0)
            throw StationException.Conflict("name-taken", $"there is a token '{order.Name}' already", "Choose another name, or revoke it.");
        return new NewToken(new TokenInfo(order.Name, order.Role, Now, by, order.Until, null, pin is not null), secret, pin);
    }

    /// <summary>Makes the first administrator's token, where there are none at all.</summary>
    /// <returns>The token; null where there are some.</returns>
    public async Task<string?> MakeFirstAsync(CancellationToken cancellation)
    {
        var secret = Secrets.Make("vst");
        var made = await database.ExecuteAsync(
            "insert into tokens (name, hash, role, created, made_by) select 'first', @hash, @role, @created, 'station' "
            + "where not exists (select 1 from tokens)", cancellation, ("hash", Secrets.Hash(secret)),
            ("role", Role.Administrator.ToString()), ("created", DbTime.Of(Now))).ConfigureAwait(false);
        return made > 0 ? secret : null;
    }

    /// <summary>Takes a token back, with its sessions.</summary>
    /// <exception cref="StationException">There is none, or nobody could do anything without it.</exception>
    public async Task RevokeAsync(string name, CancellationToken cancellation)
    {
        await database.WriteAsync(async write =>
        {
            var all = await write.QueryAsync($"select {Columns} from tokens", Read).ConfigureAwait(false);
            if (all.FirstOrDefault(t => t.Name == name) is not { } token)
                throw StationException.NotFound("no-such-token", $"there is no token '{name}'", "List them.");
            if (token.Role == Role.Administrator
                && !all.Any(t => t.Name != name && t.Role == Role.Administrator && !(t.Until <= Now)))
                throw StationException.Conflict("last-administrator", $"'{name}' is the last token of an administrator",
                    "Make another one first.");
            await write.ExecuteAsync("delete from sessions where token = @name", ("name", name)).ConfigureAwait(false);
            return await write.ExecuteAsync("delete from tokens where name = @name", ("name", name)).ConfigureAwait(false);
        }, cancellation).ConfigureAwait(false);
        _known.Clear();
    }

    /// <summary>Whose a secret is; null for nobody's.</summary>
    public async Task<Caller?> FindAsync(string secret, CancellationToken cancellation)
    {
        var hash = Secrets.Hash(secret);
        var known = _known.Get<(Caller Caller, DateTime Until, DateTime Looked)?>(hash);
        if (known is { } recent && Now - recent.Looked < s_trusted)
            return recent.Until > Now ? recent.Caller : null;
        List<(TokenInfo Token, DateTime? Session)> found;
        try
        {
            found = await database.QueryAsync($"select {Columns}, null from tokens where hash = @hash union all "
                + "select t.name, t.role, t.created, t.made_by, t.until, t.used, t.pin, s.until from sessions s join tokens t "
                + "on t.name = s.token where s.hash = @hash", row => (Read(row), row.TimeAt(7)), cancellation, ("hash", hash))
                .ConfigureAwait(false);
        }
        catch (DbException) when (known is { } before && before.Until > Now)
        {
            return before.Caller;
        }
        if (found is not [var (token, session)] || token.Until <= Now || session <= Now)
            return null;
        var caller = new Caller(token.Name, token.Role);
        var until = new[] { token.Until, session, DateTime.MaxValue }.Min()!.Value;
        _known.Set(hash, ((Caller, DateTime, DateTime)?)(caller, until, Now), new MemoryCacheEntryOptions { Size = 1 });
        if (token.Used is null || Now - token.Used > s_usedAgain)
            await database.ExecuteAsync("update tokens set used = @now where name = @name", cancellation, ("now", DbTime.Of(Now)),
                ("name", token.Name)).ConfigureAwait(false);
        return caller;
    }

    /// <summary>Whose a PIN is; null for nobody's.</summary>
    /// <param name="name">The name of the token that it stands for.</param>
    /// <param name="pin">The PIN.</param>
    /// <param name="cancellation">Ends it.</param>
    public async Task<Caller?> FindByPinAsync(string name, string pin, CancellationToken cancellation)
    {
        var found = await database.QueryAsync($"select {Columns} from tokens where name = @name",
            row => (Token: Read(row), Pin: row.TextAt(6)), cancellation, ("name", name)).ConfigureAwait(false);
        // As long for a name that there is not: it tells nothing.
        var isRight = await Task.Run(() => Secrets.IsPin(pin, found is [{ Pin: { } kept }] ? kept : s_nobody), cancellation)
            .ConfigureAwait(false);
        return isRight && found is [var (token, _)] && !(token.Until <= Now) ? new Caller(token.Name, token.Role) : null;
    }

    private static readonly string s_nobody = Secrets.HashPin(Secrets.Make("vsp"));

    /// <summary>Begins a session of the web page.</summary>
    /// <returns>What the browser says from then on, and until when.</returns>
    public Task<(string Secret, DateTime Until)> BeginSessionAsync(Caller caller, CancellationToken cancellation) =>
        BeginSessionAsync(caller, s_session, cancellation);

    /// <summary>Begins a session.</summary>
    /// <param name="caller">Whose.</param>
    /// <param name="length">How long it lasts.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <returns>What is said from then on, and until when.</returns>
    public async Task<(string Secret, DateTime Until)> BeginSessionAsync(Caller caller, TimeSpan length, CancellationToken cancellation)
    {
        var secret = Secrets.Make("vss");
        var until = Now + length;
        await database.WriteAsync(async write =>
        {
            await write.ExecuteAsync("delete from sessions where until < @now", ("now", DbTime.Of(Now))).ConfigureAwait(false);
            return await write.ExecuteAsync("insert into sessions (hash, token, until) values (@hash, @token, @until)",
                ("hash", Secrets.Hash(secret)), ("token", caller.Name), ("until", DbTime.Of(until))).ConfigureAwait(false);
        }, cancellation).ConfigureAwait(false);
        return (secret, until);
    }

    /// <summary>Ends a session of the web page.</summary>
    public async Task EndSessionAsync(string secret, CancellationToken cancellation)
    {
        await database.ExecuteAsync("delete from sessions where hash = @hash", cancellation, ("hash", Secrets.Hash(secret)))
            .ConfigureAwait(false);
        _known.Remove(Secrets.Hash(secret));
    }

    /// <inheritdoc/>
    public void Dispose() => _known.Dispose();
}
