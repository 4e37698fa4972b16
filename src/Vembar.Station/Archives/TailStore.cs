using System.Collections.Concurrent;
using System.Globalization;
using System.Text;
using System.Text.Json;
using Vembar.Common;
using Vembar.Native;
using Vembar.Operations;
using Vembar.Operations.Tails;
using Vembar.Station.Hosting;
using Vembar.Station.Problems;
using Vembar.Store.Hashing;
using Vembar.Store.Places;
using Vembar.Store.Places.Remote;
using Vembar.Store.Reading;

namespace Vembar.Station.Archives;

/// <summary>Takes what is added to archives: in parts, each with its hash, in any order, over as many connections and starts of the station
/// as it takes. What lies here for a week is given up.</summary>
public sealed class TailStore(OperationHost host, StationSettings settings, TimeProvider clock)
{
    private const int MostOffers = 64;
    private const long LongestTail = 1L << 42;
    private static readonly TimeSpan s_kept = TimeSpan.FromDays(7), s_wait = TimeSpan.FromMinutes(2);
    private readonly ConcurrentDictionary<string, SemaphoreSlim> _gates = new();

    private string Folder => Path.Combine(settings.Options.Data, "uploads");

    private SemaphoreSlim GateOf(string key) => _gates.GetOrAdd(key, _ => new SemaphoreSlim(1));

    // The same offer is the same upload, whoever makes it again.
    private static string IdOf(string archive, TailOffer offer) => Blake3.Hash(Encoding.UTF8.GetBytes(
        $"{archive}\n{offer.After}\n{offer.Replaces}\n{offer.Length}\n{string.Join('\n', offer.Parts)}")).ToString()[..32];

    private static bool IsId(string text) => text.Length == 32 && text.All(char.IsAsciiHexDigitLower);

    /// <summary>Takes an offer: tells which parts are missing still.</summary>
    /// <exception cref="StationException">It makes no sense, or the archive is in another state by now.</exception>
    public async Task<TailAnswer> OfferAsync(ServedArchive archive, TailOffer offer, CancellationToken cancellation)
    {
        if (!offer.IsSensible || offer.Length > LongestTail)
            throw StationException.Bad("bad-offer", "what is offered makes no sense");
        if (await Task.Run(() => StateOf(archive.Place), cancellation).ConfigureAwait(false) != offer.After)
            throw Moved(archive);
        var id = IdOf(archive.Name, offer);
        var gate = GateOf(id);
        await gate.WaitAsync(cancellation).ConfigureAwait(false);
        try
        {
            var at = Path.Combine(Folder, id);
            if (!Directory.Exists(at))
            {
                GiveUpOld();
                if (Directory.Exists(Folder) && Directory.EnumerateDirectories(Folder).Count() >= MostOffers)
                    throw StationException.Of(503, "busy", "too much is being sent to the station now", "Try again later.");
                var scratch = $"{at}.{Guid.NewGuid():N}";
                Directory.CreateDirectory(scratch, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
                await File.WriteAllBytesAsync(Path.Combine(scratch, "offer"), JsonSerializer.SerializeToUtf8Bytes(offer,
                    TailJson.Default.TailOffer), cancellation).ConfigureAwait(false);
                Directory.Move(scratch, at);
                Reuse(offer, at);
            }
            return new TailAnswer(id, Missing(at, offer));
        }
        catch (Exception failure) when (VembarException.From(failure, "keep what is sent in", Folder) is { } error)
        {
            throw error.Code == "no-room" ? NoRoom() : error;
        }
        finally
        {
            gate.Release();
        }
    }

    private static StationException NoRoom() => StationException.Of(507, "no-room", "the station has no room for what is sent",
        "Make room there: what has come is kept, and only the rest is sent then.");

    private static StationException Moved(ServedArchive archive) => StationException.Conflict("place-changed",
        $"'{archive.Name}' was changed by somebody else meanwhile; their change stands, yours was not made", "Run it again.");

    /// <summary>The state of an archive; empty where there is none.</summary>
    private string StateOf(string path)
    {
        if (!Posix.Exists(path))
            return "";
        using var archive = ArchiveReader.Open(path, host.Files);
        return archive.StateTag;
    }

    // Each part that has come is a file of its own: whether it is there is whether it came whole.
    private static string PartPath(string at, int part) => Path.Combine(at, part.ToString(CultureInfo.InvariantCulture));

    private static List<int> Missing(string at, TailOffer offer) =>
        [.. Enumerable.Range(0, offer.Parts.Count).Where(p => !IsThere(PartPath(at, p), offer.LengthOf(p)))];

    private static bool IsThere(string path, int length) => Posix.TryStat(null, PosixName.Encode(path), out var stat, followLink: false)
        && stat.Size == length;

    // An earlier run that was broken off may have sent the same parts.
    private void Reuse(TailOffer offer, string at)
    {
        var wanted = new Dictionary<string, int>();
        for (var part = 0; part < offer.Parts.Count; part++)
            wanted.TryAdd(offer.Parts[part], part);
        foreach (var other in Directory.EnumerateDirectories(Folder).Where(d => d != at && IsId(Path.GetFileName(d))))
        {
            if (Read(other) is not { } before)
                continue;
            for (var part = 0; part < before.Parts.Count; part++)
            {
                if (wanted.TryGetValue(before.Parts[part], out var own) && IsThere(PartPath(other, part), before.LengthOf(part)))
                    File.Copy(PartPath(other, part), PartPath(at, own), overwrite: true);
            }
        }
    }

    private static TailOffer? Read(string at)
    {
        try
        {
            return JsonSerializer.Deserialize(File.ReadAllBytes(Path.Combine(at, "offer")),
                TailJson.Default.TailOffer) is { IsSensible: true }
                offer ? offer : null;
        }
        catch (Exception failure) when (failure is IOException or JsonException)
        {
            return null;
        }
    }

    private (string At, TailOffer Offer) Find(ServedArchive archive, string id)
    {
        var at = Path.Combine(Folder, id);
        return IsId(id) && Read(at) is { } offer && IdOf(archive.Name, offer) == id ? (at, offer)
            : throw StationException.NotFound("no-such-upload", "nothing of that name is being sent", "Offer it again.");
    }

    /// <summary>Takes a part.</summary>
    /// <exception cref="StationException">It is not what was offered.</exception>
    public async Task<TailAnswer> TakeAsync(ServedArchive archive, string id, int part, Stream body, CancellationToken cancellation)
    {
        var (at, offer) = Find(archive, id);
        if (part < 0 || part >= offer.Parts.Count)
            throw StationException.NotFound("no-such-part", $"what is sent has no part {part}");
        var bytes = new byte[offer.LengthOf(part)];
        var count = await body.ReadAtLeastAsync(bytes, bytes.Length, throwOnEndOfStream: false, cancellation).ConfigureAwait(false);
        if (count < bytes.Length || Blake3.Hash(bytes).ToString() != offer.Parts[part])
            throw StationException.Bad("bad-part", $"part {part} did not come as it was offered", "Send it again.");
        var scratch = Path.Combine(at, $"{Guid.NewGuid():N}.part");
        try
        {
            await File.WriteAllBytesAsync(scratch, bytes, cancellation).ConfigureAwait(false);
            File.Move(scratch, PartPath(at, part), overwrite: true);
            return new TailAnswer(id, []);
        }
        catch (DirectoryNotFoundException)
        {
            throw StationException.NotFound("no-such-upload", "nothing of that name is being sent any more", "Offer it again.");
        }
        catch (Exception failure) when (VembarException.From(failure, "write", scratch) is { Code: "no-room" })
        {
            File.Delete(scratch);
            throw NoRoom();
        }
    }

    private string DonePath(ServedArchive archive, string id) => Path.Combine(Folder, $"{id}.{archive.Name}.done");

    /// <summary>Adds what has come whole to the archive.</summary>
    /// <exception cref="StationException">Something is missing, wrong, or the archive is in another state by now.</exception>
    public async Task<TailTaken> CommitAsync(ServedArchive archive, string id, bool addsOnly, CancellationToken cancellation)
    {
        var gate = GateOf($"/{archive.Name}");
        await gate.WaitAsync(cancellation).ConfigureAwait(false);
        var at = Path.Combine(Folder, id);
        try
        {
            // Asked again because the answer was lost.
            if (IsId(id) && File.Exists(DonePath(archive, id)))
                return new TailTaken(await File.ReadAllTextAsync(DonePath(archive, id), cancellation).ConfigureAwait(false));
            var offer = Find(archive, id).Offer;
            if (Missing(at, offer) is { Count: > 0 } missing)
                throw StationException.Conflict("tail-lost", $"{missing.Count} parts have not come",
                    "Offer it again: only those are sent.");
            var tail = Path.Combine(at, "tail");
            Join(at, offer, tail);
            var state = await new TakeTailHandler(host).HandleAsync(new TakeTailRequest(archive.Place, tail, offer.After, offer.Replaces,
                addsOnly, s_wait), Nothing.Instance, cancellation).ConfigureAwait(false);
            await File.WriteAllTextAsync(DonePath(archive, id), state, CancellationToken.None).ConfigureAwait(false);
            Directory.Delete(at, recursive: true);
            _gates.TryRemove(id, out _);
            return new TailTaken(state);
        }
        catch (VembarException problem)
        {
            if (problem.Code is "tail-lost" or "bad-tail" or "place-changed")
                Directory.Delete(at, recursive: true);
            throw problem.Code switch
            {
                "place-changed" => Moved(archive),
                "no-room" => NoRoom(),
                "archive-locked" => StationException.Of(503, "archive-locked", $"'{archive.Name}' is being written by somebody else"),
                _ => StationException.Conflict(problem.Code, problem.Message.Replace(archive.Place, archive.Name, StringComparison.Ordinal),
                    problem.Hint, problem.Details),
            };
        }
        catch (Exception failure) when (failure is IOException && VembarException.From(failure, "join", at) is { Code: "no-room" })
        {
            throw NoRoom();
        }
        finally
        {
            gate.Release();
        }
    }

    private static void Join(string at, TailOffer offer, string tail)
    {
        using var whole = new FileStream(tail, FileMode.Create, FileAccess.Write);
        for (var part = 0; part < offer.Parts.Count; part++)
        {
            using var from = File.OpenRead(PartPath(at, part));
            from.CopyTo(whole);
        }
    }

    private void GiveUpOld()
    {
        Directory.CreateDirectory(Folder);
        foreach (var old in Directory.EnumerateDirectories(Folder)
            .Where(d => clock.GetUtcNow().UtcDateTime - Directory.GetLastWriteTimeUtc(d) > s_kept))
            Directory.Delete(old, recursive: true);
        foreach (var old in Directory.EnumerateFiles(Folder, "*.done")
            .Where(f => clock.GetUtcNow().UtcDateTime - File.GetLastWriteTimeUtc(f)
            > s_kept))
            File.Delete(old);
    }
}
