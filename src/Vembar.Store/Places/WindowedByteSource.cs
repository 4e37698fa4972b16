namespace Vembar.Store.Places;

/// <summary>
/// A remote source that is read from its beginning to its end: in large windows, the next ones fetched ahead, the last ones kept.
/// </summary>
/// <param name="source">The source; disposed with this.</param>
internal sealed class WindowedByteSource(IByteSource source) : IByteSource
{
    private const int Window = 4 << 20, Kept = 16, Ahead = 4;
    private readonly Dictionary<long, Task<byte[]>> _windows = [];
    private readonly LinkedList<long> _order = new();
    private readonly Lock _gate = new();

    public long Length { get; } = source.Length;

    public bool IsRemote => true;

    public int Read(Span<byte> to, long offset)
    {
        var done = 0;
        while (done < to.Length && offset + done < Length)
        {
            var number = (offset + done) / Window;
            var bytes = At(number).GetAwaiter().GetResult();
            var at = (int)(offset + done - number * Window);
            var count = Math.Min(to.Length - done, bytes.Length - at);
            if (count <= 0)
                break;
            bytes.AsSpan(at, count).CopyTo(to[done..]);
            done += count;
        }
        return done;
    }

    private Task<byte[]> At(long number)
    {
        lock (_gate)
        {
            for (var next = number + 1; next <= number + Ahead && next * Window < Length; next++)
                Begin(next);
            return Begin(number);
        }
    }

    private Task<byte[]> Begin(long number)
    {
        if (_windows.TryGetValue(number, out var window) && !window.IsFaulted)
        {
            _order.Remove(number);
            _order.AddLast(number);
            return window;
        }
        _order.Remove(number);
        _order.AddLast(number);
        while (_order.Count > Kept)
        {
            _windows.Remove(_order.First!.Value);
            _order.RemoveFirst();
        }
        return _windows[number] = Task.Run(() => FetchAsync(number));
    }

    private async Task<byte[]> FetchAsync(long number)
    {
        var bytes = new byte[Math.Min(Window, Length - number * Window)];
        var count = await source.ReadAsync(bytes, number * Window).ConfigureAwait(false);
        return count == bytes.Length ? bytes : bytes[..count];
    }

    public void Dispose()
    {
        Task[] left;
        lock (_gate)
            left = [.. _windows.Values];
        Task.WhenAll(left).ContinueWith(_ => { }, TaskScheduler.Default).GetAwaiter().GetResult();
        source.Dispose();
    }
}
