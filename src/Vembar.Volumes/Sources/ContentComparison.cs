using System.Buffers;
using Vembar.Images.Nodes;
using Vembar.Store.Hashing;

namespace Vembar.Volumes.Sources;

/// <summary>Compares an open file with a content piece by piece; holes are not read.</summary>
internal static class ContentComparison
{
    /// <summary>Whether a file holds just what the parts of a content say.</summary>
    /// <exception cref="Native.NativeException">It cannot be read.</exception>
    public static bool Matches(ISourceFile file, IReadOnlyList<ContentPart> parts)
    {
        var at = 0L;
        foreach (var part in parts)
        {
            if (part.IsHole ? !IsZero(file, at, at + part.Length) : HashOf(file, at, part.Length) != part.Id)
                return false;
            at += part.Length;
        }
        return at == file.Length;
    }

    private static ChunkId HashOf(ISourceFile file, long from, long length)
    {
        const int Step = 1 << 20;
        var buffer = ArrayPool<byte>.Shared.Rent((int)Math.Min(length, Step));
        try
        {
            if (length <= Step)
                return file.Read(buffer.AsSpan(0, (int)length), from) == length ? Blake3.Hash(buffer.AsSpan(0, (int)length)) : default;
            var hash = new Blake3();
            for (var at = 0L; at < length;)
            {
                var got = file.Read(buffer.AsSpan(0, (int)Math.Min(Step, length - at)), from + at);
                if (got == 0)
                    return default;
                hash.Append(buffer.AsSpan(0, got));
                at += got;
            }
            return hash.Finish();
        }
        finally
        {
            ArrayPool<byte>.Shared.Return(buffer);
        }
    }

    private static bool IsZero(ISourceFile file, long from, long to)
    {
        var buffer = ArrayPool<byte>.Shared.Rent(1 << 18);
        try
        {
            for (var at = from; at < to;)
            {
                var (start, end) = file.NextData(at);
                if (start >= to)
                    return true;
                end = Math.Min(end, to);
                for (at = start; at < end;)
                {
                    var got = file.Read(buffer.AsSpan(0, (int)Math.Min(buffer.Length, end - at)), at);
                    if (got == 0 || buffer.AsSpan(0, got).IndexOfAnyExcept((byte)0) >= 0)
                        return false;
                    at += got;
                }
            }
            return true;
        }
        finally
        {
            ArrayPool<byte>.Shared.Return(buffer);
        }
    }
}
