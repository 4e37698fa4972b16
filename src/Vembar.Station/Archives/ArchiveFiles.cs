using System.Collections.Concurrent;
using Vembar.Operations;
using Vembar.Store.Places;

namespace Vembar.Station.Archives;

/// <summary>Archives that are being read, opened once for many readers.</summary>
public sealed class ArchiveFiles(OperationHost host, TimeProvider clock) : IDisposable
{
    private static readonly TimeSpan s_again = TimeSpan.FromSeconds(2);
    private readonly ConcurrentDictionary<string, Open> _open = new();
    private readonly Lock _gate = new();

    private sealed class Open(ArchiveFile file, string look, DateTimeOffset looked)
    {
        public ArchiveFile File => file;
        public string Look => look;
        public DateTimeOffset Looked { get; set; } = looked;
        public int Readers { get; set; }
        public bool IsOld { get; set; }
    }

    /// <summary>A reader's hold on an archive.</summary>
    public sealed class Lease(ArchiveFile file, Action done) : IDisposable
    {
        private int _ended;

        /// <summary>The archive.</summary>
        public ArchiveFile File => file;

        /// <inheritdoc/>
        public void Dispose()
        {
            if (Interlocked.Exchange(ref _ended, 1) == 0)
                done();
        }
    }

    /// <summary>Opens an archive, or the one that is open already if it is still as it was.</summary>
    /// <exception cref="Common.VembarException">It is not there, or damaged.</exception>
    public Lease Take(ServedArchive archive)
    {
        lock (_gate)
        {
            if (_open.TryGetValue(archive.Name, out var open) && !IsCurrent(open, archive))
            {
                Retire(archive.Name, open);
                open = null;
            }
            if (open is null)
            {
                var look = PlaceAddress.IsRemote(archive.Place) ? "" : ArchiveFile.LookOf(archive.Place);
#pragma warning disable CA2000 // disposed of when nobody reads it any more
                open = _open[archive.Name] = new Open(ArchiveFile.Open(archive.Place, host.Files), look, clock.GetUtcNow());
#pragma warning restore CA2000
            }
            open.Readers++;
            return new Lease(open.File, () => Release(open));
        }
    }

    private bool IsCurrent(Open open, ServedArchive archive)
    {
        if (!PlaceAddress.IsRemote(archive.Place))
            return ArchiveFile.LookOf(archive.Place) is { Length: > 0 } look && look == open.Look;
        // What is read through from elsewhere is looked at now and then.
        return clock.GetUtcNow() - open.Looked < s_again;
    }

    private void Retire(string name, Open open)
    {
        _open.TryRemove(name, out _);
        open.IsOld = true;
        if (open.Readers == 0)
            open.File.Dispose();
    }

    private void Release(Open open)
    {
        lock (_gate)
        {
            if (--open.Readers == 0 && open.IsOld)
                open.File.Dispose();
        }
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        lock (_gate)
        {
            foreach (var (name, open) in _open)
                Retire(name, open);
        }
    }
}
