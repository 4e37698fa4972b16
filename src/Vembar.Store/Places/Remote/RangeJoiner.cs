namespace Vembar.Store.Places.Remote;

/// <summary>Reads many places with few requests: neighbours together, several at once.</summary>
internal static class RangeJoiner
{
    // Bytes are cheap beside a request.
    private const int WorthReadingOver = 256 << 10, LongestJoined = 8 << 20, AtOnce = 6;

    /// <summary>Reads all ranges.</summary>
    /// <param name="source">Where; each read is a request.</param>
    /// <param name="ranges">What.</param>
    /// <param name="many">Reads all of some with one request where that is possible; null where it never is.</param>
    /// <param name="cancellation">Ends it.</param>
    public static async ValueTask ReadAsync(IByteSource source, IReadOnlyList<ByteRange> ranges,
        Func<IReadOnlyList<ByteRange>, CancellationToken, Task<bool>>? many, CancellationToken cancellation)
    {
        var groups = Join(ranges);
        if (groups.Count > 1 && many is not null && await many([.. groups.SelectMany(g => g)], cancellation).ConfigureAwait(false))
            return;
        await Parallel.ForEachAsync(groups, new ParallelOptions { MaxDegreeOfParallelism = AtOnce, CancellationToken = cancellation },
            async (group, stop) =>
            {
                if (group is [var single])
                {
                    single.Count = await source.ReadAsync(single.Buffer, single.Offset, stop).ConfigureAwait(false);
                    return;
                }
                var start = group[0].Offset;
                var buffer = new byte[group.Max(r => r.Offset + r.Buffer.Length) - start];
                var count = await source.ReadAsync(buffer, start, stop).ConfigureAwait(false);
                foreach (var range in group)
                {
                    var at = (int)(range.Offset - start);
                    range.Count = Math.Clamp(count - at, 0, range.Buffer.Length);
                    buffer.AsMemory(at, range.Count).CopyTo(range.Buffer);
                }
            }).ConfigureAwait(false);
    }

    private static List<List<ByteRange>> Join(IReadOnlyList<ByteRange> ranges)
    {
        var groups = new List<List<ByteRange>>();
        var end = 0L;
        foreach (var range in ranges.Where(r => r.Buffer.Length > 0).OrderBy(r => r.Offset))
        {
            var rangeEnd = range.Offset + range.Buffer.Length;
            if (groups.Count > 0 && range.Offset - end <= WorthReadingOver
                && Math.Max(end, rangeEnd) - groups[^1][0].Offset <= LongestJoined)
                groups[^1].Add(range);
            else
                groups.Add([range]);
            end = groups[^1].Count == 1 ? rangeEnd : Math.Max(end, rangeEnd);
        }
        return groups;
    }
}
