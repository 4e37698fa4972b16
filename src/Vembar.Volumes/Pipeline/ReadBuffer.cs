using System.Buffers;
using Vembar.Store.Hashing;

namespace Vembar.Volumes.Pipeline;

/// <summary>A stretch of read content: the bytes, the chunks in them, and the files that ended with it.</summary>
/// <param name="room">How many bytes there is room for at least.</param>
internal sealed class ReadBuffer(int room) : IDisposable
{
    public byte[] Buffer { get; } = ArrayPool<byte>.Shared.Rent(room);
    public int Used { get; set; }
    public List<(ChunkId Id, int Offset, int Length)> Chunks { get; } = [];
    public List<FileResult> Results { get; } = [];

    /// <summary>Bytes that were read only to be compared.</summary>
    public long Compared { get; set; }

    public void Dispose() => ArrayPool<byte>.Shared.Return(Buffer);
}
