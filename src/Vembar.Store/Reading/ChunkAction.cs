namespace Vembar.Store.Reading;

/// <summary>Something done with a chunk's bytes.</summary>
public delegate void ChunkAction(ReadOnlySpan<byte> bytes);
