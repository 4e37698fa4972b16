namespace Vembar.Native;

/// <summary>The stretch of bytes that an NTFS volume lies on. Used by one thread at a time.</summary>
public interface INtfsDevice
{
    /// <summary>Its length in bytes.</summary>
    long Length { get; }

    /// <summary>Reads; fewer bytes than asked only at the end.</summary>
    int Read(Span<byte> to, long offset);

    /// <summary>Writes all of it.</summary>
    void Write(ReadOnlySpan<byte> from, long offset);

    /// <summary>Makes durable what was written.</summary>
    void Flush();
}
