using Vembar.Operations.Stations.Contract;
using Vembar.Store.Places;

namespace Vembar.Operations.Waves;

/// <summary>An archive at a station of which parts come with a wave; what does not come is asked for.</summary>
/// <param name="source">The archive; disposed with this.</param>
/// <param name="plan">What the wave sends.</param>
/// <param name="inbox">What came of it.</param>
/// <param name="asked">Told how many bytes of the wave were asked for.</param>
public sealed class WaveByteSource(IByteSource source, WavePlan plan, WaveInbox inbox, Action<long> asked) : IByteSource
{
    private readonly int[] _order = [.. Enumerable.Range(0, plan.Pieces.Count).OrderBy(i => plan.Pieces[i].Offset)];

    private sealed record Part(int Piece, long Start, long End);

    /// <inheritdoc/>
    public long Length => source.Length;

    /// <inheritdoc/>
    public bool IsRemote => source.IsRemote;

    /// <inheritdoc/>
    // Somebody stands still until it is there; what is fetched ahead may take its time.
    public int Read(Span<byte> to, long offset) =>
        Blocking.Read(room => ReadAsync(room, offset, isUrgent: true, CancellationToken.None), to);

    /// <inheritdoc/>
    public ValueTask<int> ReadAsync(Memory<byte> to, long offset, CancellationToken cancellation = default) =>
        ReadAsync(to, offset, isUrgent: false, cancellation);

    private async ValueTask<int> ReadAsync(Memory<byte> to, long offset, bool isUrgent, CancellationToken cancellation)
    {
        var end = Math.Min(offset + to.Length, source.Length);
        if (end <= offset)
            return 0;
        var missing = new List<(long Start, long End)>();
        void Miss(long start, long stop)
        {
            if (missing is [.., var last] && last.End == start)
                missing[^1] = (last.Start, stop);
            else
                missing.Add((start, stop));
        }
        foreach (var part in PartsOf(offset, end))
        {
            if (part.Piece < 0)
            {
                Miss(part.Start, part.End);
                continue;
            }
            var piece = plan.Pieces[part.Piece];
            var length = (int)(part.End - part.Start);
            if (await inbox.WaitAsync(part.Piece, isUrgent, cancellation).ConfigureAwait(false) is { } bytes)
                bytes.AsMemory((int)(part.Start - piece.Offset), length).CopyTo(to[(int)(part.Start - offset)..]);
            else
            {
                Miss(part.Start, part.End);
                asked(length);
            }
            inbox.Used(part.Piece, length);
        }
        foreach (var (start, stop) in missing)
        {
            var room = to.Slice((int)(start - offset), (int)(stop - start));
            var count = await source.ReadAsync(room, start, cancellation).ConfigureAwait(false);
            if (count < room.Length)
                return (int)(start - offset) + count;
        }
        return (int)(end - offset);
    }

    /// <inheritdoc/>
    public async ValueTask ReadManyAsync(IReadOnlyList<ByteRange> ranges, CancellationToken cancellation = default)
    {
        foreach (var range in ranges)
            range.Count = await ReadAsync(range.Buffer, range.Offset, cancellation).ConfigureAwait(false);
    }

    // Pieces, and what lies between them, of a stretch.
    private IEnumerable<Part> PartsOf(long start, long end)
    {
        var (low, high) = (0, _order.Length);
        while (low < high)
        {
            var middle = (low + high) / 2;
            if (plan.Pieces[_order[middle]] is { } piece && piece.Offset + piece.Length <= start)
                low = middle + 1;
            else
                high = middle;
        }
        for (; low < _order.Length && plan.Pieces[_order[low]].Offset < end; low++)
        {
            var piece = plan.Pieces[_order[low]];
            if (piece.Offset > start)
                yield return new Part(-1, start, piece.Offset);
            var from = Math.Max(start, piece.Offset);
            start = Math.Min(end, piece.Offset + piece.Length);
            yield return new Part(_order[low], from, start);
        }
        if (start < end)
            yield return new Part(-1, start, end);
    }

    /// <inheritdoc/>
    public void Dispose() => source.Dispose();
}
