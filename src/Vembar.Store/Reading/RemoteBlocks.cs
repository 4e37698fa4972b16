using System.Globalization;
using System.IO.Hashing;
using Vembar.Common;
using Vembar.Store.Format;
using Vembar.Store.Places;

namespace Vembar.Store.Reading;

/// <summary>
/// Blocks of an archive that is far away: from those that are kept here, from those that were asked for ahead, else by a request of their
/// own.
/// </summary>
/// <param name="file">The archive.</param>
/// <param name="kept">Keeps blocks; null for nothing.</param>
internal sealed class RemoteBlocks(IByteSource file, IBlockStore? kept) : IDisposable
{
    private volatile BlocksAhead? _ahead;

    private static string NameOf(BlockInfo block) => string.Create(CultureInfo.InvariantCulture,
        $"{block.Checksum:x16}-{block.StoredLength:x}-{block.PlainLength:x}-{block.ChunkCount:x}");

    private static bool IsSound(BlockInfo block, ReadOnlySpan<byte> whole) =>
        XxHash3.HashToUInt64(whole[(int)(block.PayloadOffset - block.Offset)..]) == block.Checksum;

    /// <summary>Reads a block, head included.</summary>
    /// <param name="block">Which.</param>
    /// <param name="to">Room for all of it.</param>
    /// <param name="fresh">Whether it is to come from afar, for what is kept turned out to be something else.</param>
    /// <returns>False when the archive ends before it does.</returns>
    public bool Read(BlockInfo block, Span<byte> to, bool fresh)
    {
        var name = NameOf(block);
        if (fresh)
            kept?.Forget(name);
        else if (_ahead?.TryTake(block, to) == true)
            return true;
        else if (kept?.TryRead(name, to) == true)
        {
            if (IsSound(block, to))
                return true;
            kept.Forget(name);
        }
        if (file.Read(to, block.Offset) < to.Length)
            return false;
        if (kept is not null && IsSound(block, to))
            kept.Keep(name, to);
        return true;
    }

    /// <summary>Begins to fetch blocks that will be read, in that order.</summary>
    /// <param name="blocks">The blocks.</param>
    /// <returns>What ends it.</returns>
    public IDisposable FetchAhead(IEnumerable<BlockInfo> blocks)
    {
        var ahead = new BlocksAhead(file, [.. blocks.Where(b => kept?.Contains(NameOf(b)) != true)], (block, bytes) =>
        {
            if (kept is not null && IsSound(block, bytes))
                kept.Keep(NameOf(block), bytes);
        });
        Interlocked.Exchange(ref _ahead, ahead)?.Dispose();
        return ahead;
    }

    public void Dispose() => _ahead?.Dispose();
}
