namespace Vembar.Store.Places;

/// <summary>A place of a <see cref="IByteSource"/> with room for what is read there.</summary>
/// <param name="offset">The place.</param>
/// <param name="buffer">The room.</param>
public sealed class ByteRange(long offset, Memory<byte> buffer)
{
    /// <summary>The place of the first byte.</summary>
    public long Offset => offset;

    /// <summary>The room for the bytes.</summary>
    public Memory<byte> Buffer => buffer;

    /// <summary>How many bytes there were; fewer than there is room for only at the end of the source.</summary>
    public int Count { get; set; }

    /// <summary>Whether there were as many bytes as were asked for.</summary>
    public bool IsComplete => Count == buffer.Length;
}
