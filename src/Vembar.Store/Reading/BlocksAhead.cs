using Vembar.Common;
using Vembar.Store.Format;
using Vembar.Store.Places;

namespace Vembar.Store.Reading;

/// <summary>
/// Fetches blocks in the order in which they will be read: neighbours with one request, several requests at once, not more than fits the
/// room ahead of who reads.
/// </summary>
internal sealed class BlocksAhead : IDisposable
{
    private const int AtOnce = 8;
    private const long LongestRun = 8 << 20, WorthReadingOver = 64 << 10, Room = 80L << 20;
    // Who reads with several threads is not at one place; what lies further behind is not wanted any more.
    private const int Behind = 32;

    private readonly IByteSource _file;
    private readonly BlockInfo[] _blocks;
    private readonly Dictionary<BlockInfo, int> _places = [];
    private readonly Action<BlockInfo, ReadOnlySpan<byte>> _came;
    private readonly Dictionary<int, Task<ReadOnlyMemory<byte>?>> _coming = [];
    private readonly CancellationTokenSource _stop = new();
    private readonly Lock _gate = new();
    private readonly List<Task> _runs = [];
    private int _next;
    private int _reached;
    private int _open;
    private long _held;

    /// <param name="file">The archive.</param>
    /// <param name="blocks">The blocks, in the order in which they will be read.</param>
    /// <param name="came">Told each that came; by any thread.</param>
    public BlocksAhead(IByteSource file, BlockInfo[] blocks, Action<BlockInfo, ReadOnlySpan<byte>> came)
    {
        _file = file;
        _came = came;
        _blocks = blocks;
        for (var i = 0; i < blocks.Length; i++)
            _places.TryAdd(blocks[i], i);
        lock (_gate)
            Begin();
    }

    /// <summary>Takes a block that was asked for, and waits for it when it is on its way.</summary>
    /// <returns>False when it was not asked for, or could not be had.</returns>
    public bool TryTake(BlockInfo block, Span<byte> to)
    {
        if (!_places.TryGetValue(block, out var place))
            return false;
        Task<ReadOnlyMemory<byte>?>? coming;
        lock (_gate)
        {
            _coming.Remove(place, out coming);
            if (coming is not null)
                _held -= block.WholeLength;
            _reached = Math.Max(_reached, place);
            // Whoever is ahead of what was asked for does not wait for it.
            if (coming is null && place >= _next)
                _next = place + 1;
            foreach (var (late, _) in _coming.Where(c => c.Key < _reached - Behind).ToList())
            {
                _held -= _blocks[late].WholeLength;
                _coming.Remove(late);
            }
            Begin();
        }
        if (coming is null || coming.GetAwaiter().GetResult() is not { } bytes || bytes.Length != to.Length)
            return false;
        bytes.Span.CopyTo(to);
        return true;
    }

    // Starts as many requests as there is room for.
    private void Begin()
    {
        while (_open < AtOnce && _next < _blocks.Length && _held < Room && !_stop.IsCancellationRequested)
        {
            var first = _next;
            var end = _blocks[first].Offset + _blocks[first].WholeLength;
            for (_next++; _next < _blocks.Length; _next++)
            {
                var block = _blocks[_next];
                if (block.Offset < end || block.Offset - end > WorthReadingOver
                    || block.Offset + block.WholeLength - _blocks[first].Offset > LongestRun)
                    break;
                end = block.Offset + block.WholeLength;
            }
            _open++;
            var (from, to) = (first, _next);
            var run = Task.Run(() => FetchAsync(from, to, end - _blocks[from].Offset));
            _runs.RemoveAll(r => r.IsCompleted);
            _runs.Add(run);
            for (var i = from; i < to; i++)
            {
                var place = i;
                _held += _blocks[i].WholeLength;
                _coming[i] = PartAsync(run, _blocks[place], _blocks[from].Offset);
            }
        }
    }

    private static async Task<ReadOnlyMemory<byte>?> PartAsync(Task<byte[]?> run, BlockInfo block, long start) =>
        await run.ConfigureAwait(false) is { } bytes ? bytes.AsMemory((int)(block.Offset - start), (int)block.WholeLength) : null;

    private async Task<byte[]?> FetchAsync(int first, int end, long length)
    {
        try
        {
            var bytes = new byte[length];
            var start = _blocks[first].Offset;
            if (await _file.ReadAsync(bytes, start, _stop.Token).ConfigureAwait(false) < bytes.Length)
                return null;
            for (var i = first; i < end; i++)
                _came(_blocks[i], bytes.AsSpan((int)(_blocks[i].Offset - start), (int)_blocks[i].WholeLength));
            return bytes;
        }
        catch (Exception failure) when (failure is VembarException or IOException or OperationCanceledException)
        {
            // Whoever needs it asks once more, and is told.
            return null;
        }
        finally
        {
            lock (_gate)
            {
                _open--;
                Begin();
            }
        }
    }

    public void Dispose()
    {
        Task[] runs;
        lock (_gate)
        {
            _stop.Cancel();
            runs = [.. _runs];
        }
        Task.WhenAll(runs).GetAwaiter().GetResult();
    }
}
