using System.Collections.Concurrent;
using System.Text;
using Vembar.Store.Hashing;

namespace Vembar.Store.Places;

/// <summary>
/// An archive far away, read in whole pieces that are kept: what crossed the line once does not cross it again, whoever asks. An archive
/// only grows, so a piece stays what it is; one that was made anew begins with other bytes, by which its pieces are named.
/// </summary>
/// <param name="source">The archive; disposed with this.</param>
/// <param name="store">Keeps the pieces.</param>
/// <param name="end">Up to where the archive stays as it is: the end of its last state.</param>
public sealed class KeptByteSource(IByteSource source, IBlockStore store, long end) : IByteSource
{
    /// <summary>How long a piece is, in bytes.</summary>
    public const int PieceLength = 1 << 20;

    // The header and the first state's record, whose time tells it from all others.
    private const int Beginning = 4096;

    private readonly ConcurrentDictionary<long, Lazy<Task<byte[]>>> _coming = new();
    private readonly Lazy<Task<string>> _name = new(() => NameAsync(source));

    /// <inheritdoc/>
    public long Length => end;

    /// <inheritdoc/>
    public bool IsRemote => true;

    private static async Task<string> NameAsync(IByteSource source)
    {
        var bytes = new byte[(int)Math.Min(Beginning, source.Length)];
        await source.ReadAsync(bytes, 0).ConfigureAwait(false);
        return Blake3.Hash(bytes).ToString();
    }

    /// <inheritdoc/>
    public int Read(Span<byte> to, long offset) => Blocking.Read(this, to, offset);

    /// <inheritdoc/>
    public async ValueTask<int> ReadAsync(Memory<byte> to, long offset, CancellationToken cancellation = default)
    {
        var done = 0;
        while (done < to.Length && offset + done < end)
        {
            var at = offset + done;
            var piece = await PieceAsync(at / PieceLength).WaitAsync(cancellation).ConfigureAwait(false);
            var within = (int)(at % PieceLength);
            var count = Math.Min(to.Length - done, piece.Length - within);
            if (count <= 0)
                break;
            piece.AsMemory(within, count).CopyTo(to[done..]);
            done += count;
        }
        return done;
    }

    // Whoever asks for a piece that is on its way waits for it.
    private async Task<byte[]> PieceAsync(long number)
    {
        var coming = _coming.GetOrAdd(number, n => new Lazy<Task<byte[]>>(() => FetchAsync(n)));
        try
        {
            return await coming.Value.ConfigureAwait(false);
        }
        finally
        {
            _coming.TryRemove(new KeyValuePair<long, Lazy<Task<byte[]>>>(number, coming));
        }
    }

    private async Task<byte[]> FetchAsync(long number)
    {
        var archive = await _name.Value.ConfigureAwait(false);
        var piece = new byte[(int)Math.Min(PieceLength, end - number * PieceLength)];
        // The last one grows with the archive's next state: it is another piece then.
        var which = piece.Length == PieceLength ? $"{archive} {number}" : $"{archive} {number} {piece.Length}";
        var name = Blake3.Hash(Encoding.UTF8.GetBytes(which)).ToString();
        if (store.TryRead(name, piece))
            return piece;
        var count = await source.ReadAsync(piece, number * PieceLength).ConfigureAwait(false);
        if (count < piece.Length)
            throw new IOException("the archive is shorter than it was");
        store.Keep(name, piece);
        return piece;
    }

    /// <inheritdoc/>
    public void Dispose() => source.Dispose();
}
