using Vembar.Native;

namespace Vembar.Volumes.Disks;

/// <summary>
/// Keeps the pages of a device that were used last, and what was written to them, until there are too many. For devices
/// where every call is a round trip: a run of writes into a file system is many small ones near each other.
/// </summary>
public sealed class CachedDevice : IBlockDevice
{
    private const int PageSize = 64 << 10;
    private readonly IBlockDevice _device;
    private readonly int _most;
    private readonly Dictionary<long, LinkedListNode<Page>> _pages = [];
    private readonly LinkedList<Page> _order = new();

    private sealed class Page(long number)
    {
        public long Number => number;
        public byte[] Bytes { get; } = new byte[PageSize];
        public int Length { get; set; }
        public bool IsDirty { get; set; }
    }

    /// <summary>A cache before a device, which is closed with it.</summary>
    /// <param name="device">The device.</param>
    /// <param name="pages">How many pages of 64 KiB it keeps.</param>
    public CachedDevice(IBlockDevice device, int pages)
    {
        _device = device;
        _most = pages;
    }

    /// <inheritdoc/>
    public string DisplayName => _device.DisplayName;

    /// <inheritdoc/>
    public long Length => _device.Length;

    /// <inheritdoc/>
    public bool MayWrite => _device.MayWrite;

    /// <inheritdoc/>
    public int Read(Span<byte> to, long offset)
    {
        var done = 0;
        while (done < to.Length && offset + done < Length)
        {
            var (number, at) = Math.DivRem(offset + done, PageSize);
            // Long stretches that are not here are read at once, past the cache.
            if (at == 0 && to.Length - done >= 2 * PageSize && !_pages.ContainsKey(number))
            {
                var count = PageSize;
                while (to.Length - done >= count + PageSize && !_pages.ContainsKey(number + count / PageSize))
                    count += PageSize;
                var got = _device.Read(to.Slice(done, count), offset + done);
                done += got;
                if (got < count)
                    break;
                continue;
            }
            var page = Get(number, fill: true);
            var length = Math.Min(to.Length - done, page.Length - (int)at);
            if (length <= 0)
                break;
            page.Bytes.AsSpan((int)at, length).CopyTo(to[done..]);
            done += length;
        }
        return done;
    }

    /// <inheritdoc/>
    public void Write(ReadOnlySpan<byte> from, long offset)
    {
        if (!MayWrite || offset < 0 || offset > Length - from.Length)
            throw new NativeException("write", DisplayName, MayWrite ? Errno.NoSpace : Errno.ReadOnly);
        for (var done = 0; done < from.Length;)
        {
            var (number, at) = Math.DivRem(offset + done, PageSize);
            var length = (int)Math.Min(from.Length - done, PageSize - at);
            var page = Get(number, fill: length < Math.Min(PageSize, Length - number * PageSize));
            from.Slice(done, length).CopyTo(page.Bytes.AsSpan((int)at));
            page.IsDirty = true;
            done += length;
        }
    }

    private Page Get(long number, bool fill)
    {
        if (_pages.TryGetValue(number, out var node))
        {
            _order.Remove(node);
            _order.AddFirst(node);
            return node.Value;
        }
        if (_pages.Count >= _most)
        {
            var last = _order.Last!.Value;
            if (last.IsDirty)
                WriteAround(last);
            _order.RemoveLast();
            _pages.Remove(last.Number);
        }
        var page = new Page(number) { Length = (int)Math.Min(PageSize, Length - number * PageSize) };
        if (fill)
        {
            var got = _device.Read(page.Bytes.AsSpan(0, page.Length), number * PageSize);
            if (!MayWrite)
                page.Length = got;
        }
        _pages[number] = _order.AddFirst(page);
        return page;
    }

    // With a page go its neighbours, in one call.
    private void WriteAround(Page page)
    {
        const int Most = 64;
        long first = page.Number, end = page.Number + 1;
        while (end - first < Most && _pages.TryGetValue(first - 1, out var before) && before.Value.IsDirty)
            first--;
        while (end - first < Most && _pages.TryGetValue(end, out var after) && after.Value.IsDirty)
            end++;
        var buffer = System.Buffers.ArrayPool<byte>.Shared.Rent((int)(end - first) * PageSize);
        try
        {
            var length = 0;
            for (var number = first; number < end; number++)
            {
                var each = _pages[number].Value;
                each.Bytes.AsSpan(0, each.Length).CopyTo(buffer.AsSpan(length));
                length += each.Length;
            }
            _device.Write(buffer.AsSpan(0, length), first * PageSize);
            // What could not be written is still to be written.
            for (var number = first; number < end; number++)
                _pages[number].Value.IsDirty = false;
        }
        finally
        {
            System.Buffers.ArrayPool<byte>.Shared.Return(buffer);
        }
    }

    /// <inheritdoc/>
    public void Flush()
    {
        foreach (var page in _order.OrderBy(p => p.Number).ToList())
        {
            if (page.IsDirty)
                WriteAround(page);
        }
        _device.Flush();
    }

    /// <summary>Closes the device; what was not flushed is lost.</summary>
    public void Dispose() => _device.Dispose();
}
