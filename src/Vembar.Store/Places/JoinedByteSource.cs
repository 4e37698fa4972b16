namespace Vembar.Store.Places;

/// <summary>The first bytes of one source, and all of another behind them.</summary>
/// <param name="first">The one; not disposed.</param>
/// <param name="length">How much of it.</param>
/// <param name="second">The other; not disposed.</param>
internal sealed class JoinedByteSource(IByteSource first, long length, IByteSource second) : IByteSource
{
    public long Length => length + second.Length;

    public int Read(Span<byte> to, long offset)
    {
        var there = (int)Math.Clamp(length - offset, 0, to.Length);
        var done = there > 0 ? first.Read(to[..there], offset) : 0;
        return done == there && done < to.Length ? done + second.Read(to[done..], offset + done - length) : done;
    }

    public void Dispose()
    {
    }
}
