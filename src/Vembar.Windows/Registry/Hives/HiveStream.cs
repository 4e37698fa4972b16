using Vembar.Common.Files;

namespace Vembar.Windows.Registry.Hives;

/// <summary>The file of a hive in memory, to be read from its start; the hive must not be changed meanwhile.</summary>
/// <param name="pieces">Its bytes, in pieces that follow each other.</param>
/// <param name="length">Their length together.</param>
internal sealed class HiveStream(IReadOnlyList<ReadOnlyMemory<byte>> pieces, long length) : ReadOnlyStream
{
    private int _piece;
    private int _at;

    /// <inheritdoc/>
    public override long Length => length;

    /// <inheritdoc/>
    public override int Read(Span<byte> buffer)
    {
        var done = 0;
        while (done < buffer.Length && _piece < pieces.Count)
        {
            var rest = pieces[_piece].Span[_at..];
            var count = Math.Min(rest.Length, buffer.Length - done);
            rest[..count].CopyTo(buffer[done..]);
            done += count;
            _at += count;
            if (count == rest.Length)
                (_piece, _at) = (_piece + 1, 0);
        }
        return done;
    }
}
