using Microsoft.Win32.SafeHandles;
using Vembar.Native;

namespace Vembar.Windows.Servicing.Folders;

/// <summary>
/// A packed file that is read from its start to its end only: when the first of its files is wanted, all are unpacked, one behind
/// the other, into a temporary file that has no name, so that nothing of it stays behind and no name in it leads anywhere.
/// </summary>
#pragma warning disable CA1001 // the spool stays open as long as streams of it may be read; the handle closes itself
internal sealed class SpooledPackedFile : PackedFile
#pragma warning restore CA1001
{
    // No file for people is packed to less than that part of itself; what says so would fill the disk or never end.
    private const long LeastAllowed = 4L << 30, LongestRatio = 200;

    private readonly Func<SafeFileHandle> _open;
    private readonly CancellationToken _cancellation;
    private readonly Lock _lock = new();
    private readonly Dictionary<string, string> _links = new(StringComparer.OrdinalIgnoreCase);
    private Dictionary<string, long>? _places;

    private SafeFileHandle? _spool;

    /// <param name="path">Where it is.</param>
    /// <param name="packed">Its length in bytes.</param>
    /// <param name="open">Opens it, at its start.</param>
    /// <param name="cancellation">Ends reading, now and later.</param>
    /// <exception cref="InvalidDataException">It is damaged, of no known kind, or holds more than one may.</exception>
    public SpooledPackedFile(string path, long packed, Func<SafeFileHandle> open, CancellationToken cancellation) : base(path)
    {
        _open = open;
        _cancellation = cancellation;
        var counted = new byte[1 << 16];
        using var reader = PackedReader.Open(open());
        while (reader.Next() is { } entry)
        {
            cancellation.ThrowIfCancellationRequested();
            if (entry.LinkTo is { } target)
            {
                // A second name of a file before.
                if (Plain(target) is { } first && Files.TryGetValue(first, out var shared) && Note(entry.Name, shared) is { } link)
                    _links[link] = _links.GetValueOrDefault(first, first);
                continue;
            }
            if (!entry.IsFile)
                continue;
            var length = entry.Length;
            if (length < 0)
            {
                length = 0;
                for (int got; (got = reader.Read(counted)) > 0; length += got)
                    cancellation.ThrowIfCancellationRequested();
            }
            Note(entry.Name, length);
            if (Bytes > LeastAllowed + LongestRatio * packed)
                throw new InvalidDataException($"it says that it holds {Bytes >> 30} GiB, {LongestRatio} times what it is long itself");
        }
    }

    /// <inheritdoc/>
    public override Stream Open(string name)
    {
        try
        {
            lock (_lock)
                _places ??= Unpack();
            if (!_places.TryGetValue(_links.GetValueOrDefault(name, name), out var at))
                throw new InvalidDataException("it changed while it was read");
            return new SpoolStream(_spool!, at, Files[name]);
        }
        catch (Exception failure) when (ToError(failure, Path) is { } error)
        {
            throw error;
        }
    }

    private Dictionary<string, long> Unpack()
    {
        var bytes = Files.Where(f => !_links.ContainsKey(f.Key)).Sum(f => f.Value);
        _spool = TemporaryFile.Create(bytes, $"'{Path}'");
        var places = new Dictionary<string, long>(StringComparer.OrdinalIgnoreCase);
        using var reader = PackedReader.Open(_open());
        var buffer = new byte[1 << 18];
        var at = 0L;
        while (reader.Next() is { } entry)
        {
            if (!entry.IsFile || entry.LinkTo is not null || Plain(entry.Name) is not { } name || !Files.TryGetValue(name, out var length)
                || !places.TryAdd(name, at))
                continue;
            var end = at + length;
            for (int got; (got = reader.Read(buffer)) > 0; at += got)
            {
                _cancellation.ThrowIfCancellationRequested();
                if (at + got > end)
                    throw new InvalidDataException($"'{name}' in it is longer than it says");
                TemporaryFile.Write(_spool, buffer.AsSpan(0, got), at);
            }
            if (at != end)
                throw new InvalidDataException($"'{name}' in it is shorter than it says");
        }
        return places;
    }

    private static string? Plain(string name) =>
        name.Split(['/', '\\'], StringSplitOptions.RemoveEmptyEntries).Where(p => p != ".").ToArray() is { Length: > 0 } parts
        ? string.Join('/', parts) : null;
}
