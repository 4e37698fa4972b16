using System.Collections.Concurrent;
using Vembar.Common;
using Vembar.Operations;
using Vembar.Store.Places;

namespace Vembar.Station.Archives;

/// <summary>Archives that are being read, opened once for many readers. What one of them waits for keeps nobody from another.</summary>
public sealed class ArchiveFiles(OperationHost host, TimeProvider clock) : IDisposable
{
    private static readonly TimeSpan s_again = TimeSpan.FromSeconds(5);
    private readonly ConcurrentDictionary<string, Entry> _entries = new();

    private sealed class Entry
    {
        public SemaphoreSlim Gate { get; } = new(1);
        public OpenArchive? Open { get; set; }
    }

    /// <summary>Opens an archive, or the one that is open already if it is still as it was.</summary>
    /// <exception cref="VembarException">It is not there, or damaged.</exception>
    public async Task<ArchiveLease> TakeAsync(ServedArchive archive, CancellationToken cancellation)
    {
        var entry = _entries.GetOrAdd($"{archive.Name} {archive.Place}", _ => new Entry());
        await entry.Gate.WaitAsync(cancellation).ConfigureAwait(false);
        try
        {
            if (entry.Open is not { } open || !IsCurrent(open, archive))
            {
                open = await Task.Run(() => Reopen(entry.Open, archive), cancellation).ConfigureAwait(false);
                if (open != entry.Open)
                    entry.Open?.Dispose();
                entry.Open = open;
            }
            return open.Lease();
        }
        finally
        {
            entry.Gate.Release();
        }
    }

    private bool IsCurrent(OpenArchive open, ServedArchive archive) => PlaceAddress.IsRemote(archive.Place)
        // What is read through from elsewhere is looked at now and then.
        ? clock.GetUtcNow() - open.Looked < s_again
        : ArchiveFile.LookOf(archive.Place) is { Length: > 0 } look && look == open.Look;

    private OpenArchive Reopen(OpenArchive? before, ServedArchive archive)
    {
        var isRemote = PlaceAddress.IsRemote(archive.Place);
        try
        {
            var look = isRemote ? "" : ArchiveFile.LookOf(archive.Place);
            return new OpenArchive(archive.Place, host.Files, look, clock.GetUtcNow());
        }
        catch (VembarException problem) when (isRemote && before is not null && problem.Kind == ErrorKind.Environment)
        {
            // The line is down: what was fetched before is still right.
            before.Looked = clock.GetUtcNow();
            return before;
        }
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        foreach (var entry in _entries.Values)
        {
            entry.Open?.Dispose();
            entry.Gate.Dispose();
        }
    }
}
