using Vembar.Common;
using Vembar.Store.Format;
using Vembar.Store.Hashing;
using Vembar.Store.Index;
using Vembar.Store.Places;

namespace Vembar.Store.Reading;

/// <summary>
/// The archives that an archive is based on, opened when something of theirs is asked for. A missing one is an error
/// only then, so that an archive's list of images can be read without.
/// </summary>
internal sealed class BaseArchives : IDisposable
{
    // A base may have a base of its own; more than this is a circle or nobody's doing.
    private const int Deepest = 16;
    private readonly ArchiveLocation _place;
    private readonly ArchiveHeader _header;
    private readonly IFileSystem _layer;
    private readonly int _depth;
    private readonly Lazy<ArchiveReader[]> _opened;

    public BaseArchives(ArchiveLocation place, ArchiveHeader header, IFileSystem fileSystem, int depth)
    {
        _place = place;
        _header = header;
        _layer = fileSystem;
        _depth = depth;
        _opened = new Lazy<ArchiveReader[]>(OpenAll);
    }

    /// <summary>The bases.</summary>
    /// <exception cref="VembarException">One is not where it was looked for, is another one, or is damaged.</exception>
    public IReadOnlyList<ArchiveReader> All => _header.Bases.Count == 0 ? [] : _opened.Value;

    private ArchiveReader[] OpenAll()
    {
        var opened = new List<ArchiveReader>();
        try
        {
            foreach (var wanted in _header.Bases)
                opened.Add(Find(wanted));
            return [.. opened];
        }
        catch
        {
            foreach (var reader in opened)
                reader.Dispose();
            throw;
        }
    }

    private ArchiveReader Find(BaseArchive wanted)
    {
        if (_depth >= Deepest)
            throw VembarException.Input("base-circle",
                $"'{_place.Path}' is based on an archive that is based on others, more than {Deepest} deep",
                Advice.Of("base-circle"));
        var others = new List<string>();
        foreach (var candidate in Candidates(wanted))
        {
            try
            {
                var reader = ArchiveReader.Open(new ArchiveLocation(candidate, _place.Bases), _layer, _depth + 1);
                if (reader.Header.Id == wanted.Id)
                    return reader;
                others.Add($"'{candidate}' is another archive ({reader.Header.Id})");
                reader.Dispose();
            }
            catch (VembarException problem)
            {
                others.Add(problem.Message);
            }
        }
        throw VembarException.Input(
            "base-missing",
            $"'{_place.Path}' stores only what its base '{wanted.Name}' ({wanted.Id}) lacks, and "
            + $"{(others.Count == 0 ? "that archive is not beside it" : "that archive was not found")}",
            Advice.Of("base-missing", ("name", wanted.Name)), others);
    }

    private IEnumerable<string> Candidates(BaseArchive wanted)
    {
        var seen = new HashSet<string>();
        foreach (var said in _place.Bases)
        {
            if (!Directory.Exists(said))
            {
                if (seen.Add(PlaceAddress.FullName(said)))
                    yield return said;
            }
            else
            {
                foreach (var file in InFolder(said, wanted).Where(f => seen.Add(Path.GetFullPath(f))))
                    yield return file;
            }
        }
        if (_place.IsRemote)
        {
            // Beside a file on a web server may lie another one.
            if (PlaceAddress.IsWeb(_place.Path) && Uri.TryCreate(new Uri(_place.Path), Uri.EscapeDataString(wanted.Name), out var beside))
                yield return beside.ToString();
            yield break;
        }
        var folder = Path.GetDirectoryName(Path.GetFullPath(_place.Path))!;
        foreach (var file in InFolder(folder, wanted).Where(f => seen.Add(Path.GetFullPath(f))))
            yield return file;
    }

    // The one with its name first; renamed, it is still the same archive.
    private static IEnumerable<string> InFolder(string folder, BaseArchive wanted)
    {
        var named = Path.Combine(folder, wanted.Name);
        if (File.Exists(named))
            yield return named;
        List<string> rest;
        try
        {
            rest = [.. Directory.EnumerateFiles(folder, "*.vmb").Where(f => f != named && ArchiveReader.IdOf(f) == wanted.Id)];
        }
        catch (Exception failure) when (failure is IOException or UnauthorizedAccessException)
        {
            rest = [];
        }
        foreach (var file in rest)
            yield return file;
    }

    /// <summary>The base that holds a chunk.</summary>
    public ArchiveReader? FindOwner(ChunkId id, out ChunkPlace place)
    {
        foreach (var reader in All)
        {
            if (reader.FindOwner(id, out place) is { } holder)
                return holder;
        }
        place = default;
        return null;
    }

    public void Dispose()
    {
        if (!_opened.IsValueCreated)
            return;
        foreach (var reader in _opened.Value)
            reader.Dispose();
    }
}
