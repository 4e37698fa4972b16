namespace Vembar.Store.Places;

/// <summary>Bytes that can be written and cut off, by one thread at a time.</summary>
public interface IByteStore
{
    /// <summary>Writes all bytes at a place.</summary>
    void Write(ReadOnlySpan<byte> bytes, long offset);

    /// <summary>Returns when all that was written is durable.</summary>
    void Sync();

    /// <summary>Cuts the bytes to a length.</summary>
    void Truncate(long length);
}
