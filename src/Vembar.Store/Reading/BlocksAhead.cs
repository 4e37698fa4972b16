using System.Buffers;
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
    private const long LongestRun = 8 << 20, Room = 64L << 20;

    /// <summary>Blocks with no more bytes than that between them are fetched with one request.</summary>
    internal const long WorthReadingOver = 64 << 10;

    // Who reads with several threads is at several places, one of them maybe in a long file. Only where nothing of what came is taken is it
    // not wanted.
    private const int MostMisses = 24;

    private readonly IByteSource _file;
    private readonly BlockInfo[] _blocks;
    private readonly Dictionary<BlockInfo, int> _places = [];
    private readonly Action<BlockInfo, ReadOnlySpan<byte>> _came;
    private readonly Dictionary<int, Run> _coming = [];
    private readonly HashSet<int> _taken = [];
    private readonly CancellationTokenSource _stop = new();
    private readonly Lock _gate = new();
    private readonly List<Task> _runs = [];
    // Blocks that come with one request, in memory of the pool. It is given back when all of them were taken and the request has ended.
    private sealed class Run(long start, int length, int blocks)
    {
        private byte[]? _bytes;
        private int _users = blocks + 1;

        public long Start => start;
        public int Length => length;
        public TaskCompletionSource<bool> Came { get; } = new(TaskCreationOptions.RunContinuationsAsynchronously);

        public Memory<byte> Rent() => (_bytes = ArrayPool<byte>.Shared.Rent(length)).AsMemory(0, length);

        public ReadOnlySpan<byte> Of(BlockInfo block) => _bytes.AsSpan((int)(block.Offset - start), (int)block.WholeLength);

        // By each block and by the request once, when they do not look at the bytes any more.
        public void GiveBack()
        {
            if (Interlocked.Decrement(ref _users) == 0 && _bytes is { } rented)
                ArrayPool<byte>.Shared.Return(rented);
        }
    }

    private int _next;
    private int _misses;
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
        Run? run;
        List<Run> unwanted = [];
        lock (_gate)
        {
            if (_coming.Remove(place, out run))
            {
                _held -= block.WholeLength;
                _misses = 0;
            }
            else
            {
                // Whoever asks for it reads it by itself; it is not fetched a second time.
                _taken.Add(place);
                if (place >= _next && ++_misses > MostMisses)
                    unwanted = GoOnBehind(place);
            }
            Begin();
        }
        foreach (var left in unwanted)
            left.GiveBack();
        if (run is null)
            return false;
        var came = run.Came.Task.GetAwaiter().GetResult() && to.Length == block.WholeLength;
        if (came)
            run.Of(block).CopyTo(to);
        run.GiveBack();
        return came;
    }

    // What was fetched is not what is read: part of it was skipped.
    private List<Run> GoOnBehind(int place)
    {
        List<Run> left = [.. _coming.Values];
        _coming.Clear();
        _held = 0;
        _misses = 0;
        _next = place + 1;
        return left;
    }

    // Starts as many requests as there is room for.
    private void Begin()
    {
        while (_open < AtOnce && _next < _blocks.Length && _held < Room && !_stop.IsCancellationRequested)
        {
            if (_taken.Contains(_next))
            {
                _next++;
                continue;
            }
            var first = _next;
            var end = _blocks[first].Offset + _blocks[first].WholeLength;
            for (_next++; _next < _blocks.Length; _next++)
            {
                var block = _blocks[_next];
                if (_taken.Contains(_next) || block.Offset < end || block.Offset - end > WorthReadingOver
                    || block.Offset + block.WholeLength - _blocks[first].Offset > LongestRun)
                    break;
                end = block.Offset + block.WholeLength;
            }
            _open++;
            var run = new Run(_blocks[first].Offset, (int)(end - _blocks[first].Offset), _next - first);
            for (var i = first; i < _next; i++)
            {
                _held += _blocks[i].WholeLength;
                _coming[i] = run;
            }
            var (from, to) = (first, _next);
            _runs.RemoveAll(r => r.IsCompleted);
            _runs.Add(Task.Run(() => FetchAsync(run, from, to)));
        }
    }

    private async Task FetchAsync(Run run, int first, int end)
    {
        try
        {
            var isWhole = await _file.ReadAsync(run.Rent(), run.Start, _stop.Token).ConfigureAwait(false) == run.Length;
            // Whoever waits for it goes on while it is kept.
            run.Came.SetResult(isWhole);
            for (var i = first; isWhole && i < end; i++)
                _came(_blocks[i], run.Of(_blocks[i]));
        }
        catch (Exception failure) when (failure is VembarException or IOException or OperationCanceledException)
        {
            // Whoever needs it asks once more, and is told.
        }
        finally
        {
            run.Came.TrySetResult(false);
            run.GiveBack();
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
