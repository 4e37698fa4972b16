namespace Vembar.Volumes.Compaction;

/// <summary>Reads a chunk of the stream that holds a compacted content.</summary>
/// <param name="to">Gets the bytes.</param>
/// <param name="offset">From where.</param>
/// <returns>How many; fewer than asked only at the end.</returns>
public delegate int ReadAt(Span<byte> to, long offset);
