using Microsoft.Win32.SafeHandles;
using Vembar.Native;
using Vembar.Store.Hashing;

namespace Vembar.Volumes.Sources;

/// <summary>Reads files of a folder to compare them with what an earlier image has of them. For one thread.</summary>
internal sealed class FileComparison(CancellationToken cancellation)
{
    // What the processor's nearer caches hold: the bytes are still there when they are hashed.
    private const int Stretch = 256 << 10;

    private readonly byte[] _buffer = new byte[Stretch];
    private readonly Blake3 _hash = new();

    /// <summary>A file that may have the content it had.</summary>
    /// <param name="Index">Its place among the names of its folder.</param>
    /// <param name="Length">Its length then and now, in bytes.</param>
    /// <param name="Hash">The hash of its content then.</param>
    public readonly record struct Known(int Index, long Length, ChunkId Hash);

    /// <summary>Whether a file has a content; false also when it cannot be read, which is told by those who store it.</summary>
    /// <exception cref="OperationCanceledException">It was interrupted.</exception>
    public bool IsStill(SafeFileHandle folder, ReadOnlySpan<byte> raw, long length, ChunkId hash)
    {
        cancellation.ThrowIfCancellationRequested();
        try
        {
            if (length <= Stretch)
            {
                var bytes = _buffer.AsSpan(0, (int)length);
                return Posix.ReadStart(folder, raw, bytes) == length && Blake3.Hash(bytes) == hash;
            }
            using var file = Posix.OpenRead(folder, raw);
            for (var offset = 0L; offset < length;)
            {
                cancellation.ThrowIfCancellationRequested();
                var bytes = _buffer.AsSpan(0, (int)Math.Min(Stretch, length - offset));
                if (Posix.Read(file, bytes, offset) < bytes.Length)
                {
                    _hash.Finish();
                    return false;
                }
                _hash.Append(bytes);
                offset += bytes.Length;
            }
            return _hash.Finish() == hash;
        }
        catch (NativeException)
        {
            _hash.Finish();
            return false;
        }
    }
}
