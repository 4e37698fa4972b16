using Vembar.Common;
using Vembar.Images.Nodes;
using Vembar.Images.Records;
using Vembar.Store.Reading;

namespace Vembar.Volumes.Targets;

/// <summary>Expands the blocks that a single writer will need next, on another core, while it writes.</summary>
internal sealed class ReadAhead : IAsyncDisposable
{
    private const int Lead = 4;
    private readonly CancellationTokenSource _stop = new();
    private readonly SemaphoreSlim _room = new(Lead);
    private readonly Task _task;
    private readonly ArchiveReader _archive;
    private long _last = -1;

    /// <param name="archive">Where the blocks are.</param>
    /// <param name="contents">What will be written, in that order.</param>
    public ReadAhead(ArchiveReader archive, IEnumerable<FileContent?> contents)
    {
        _archive = archive;
        var blocks = contents.Select(c => (Content: c, Place: archive.OrderOf(c))).Where(c => c.Place >= 0).DistinctBy(c => c.Place)
            .Select(c => c.Content!).ToList();
        _task = Task.Run(() => ExpandAsync(blocks, _stop.Token));
    }

    private async Task ExpandAsync(List<FileContent> contents, CancellationToken stop)
    {
        foreach (var content in contents)
        {
            await _room.WaitAsync(stop).ConfigureAwait(false);
            try
            {
                var id = content.Parts is { Count: > 0 } parts ? parts[0].Id : content.List;
                if (!id.IsNone)
                    _archive.Use(id, _ => { });
            }
            catch (VembarException)
            {
                // Whoever needs it is told.
            }
        }
    }

    /// <summary>Says what is written now; one more block may be expanded when it is in another block than what was before.</summary>
    public void Reached(FileContent? content)
    {
        var place = _archive.OrderOf(content);
        if (place < 0 || place == _last)
            return;
        _last = place;
        _room.Release();
    }

    public async ValueTask DisposeAsync()
    {
        await _stop.CancelAsync().ConfigureAwait(false);
        await _task.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        _stop.Dispose();
        _room.Dispose();
    }
}
