using System.Buffers;
using System.Buffers.Binary;
using Vembar.Store.Format;
using Vembar.Store.Places;

namespace Vembar.Store.Reading;

/// <summary>Looks for sound blocks in a part of a file by their heads, without any index.</summary>
internal static class BlockScan
{
    /// <summary>Something done with a block that was found.</summary>
    /// <param name="block">The block.</param>
    /// <param name="lengths">The lengths of its chunks.</param>
    /// <param name="plain">Its expanded bytes; not to be used afterwards.</param>
    public delegate void Found(BlockInfo block, int[] lengths, ReadOnlyMemory<byte> plain);

    /// <summary>Goes from one block to the next; where none is, to the next place that looks like one. What lies within a sound block is
    /// passed over.</summary>
    /// <param name="file">The archive.</param>
    /// <param name="from">The first place.</param>
    /// <param name="to">Where the part ends.</param>
    /// <param name="found">Told each sound block.</param>
    /// <param name="progress">Told the place now and then.</param>
    public static void Run(IByteSource file, long from, long to, Found found, Action<long>? progress = null)
    {
        const int Window = 4 << 20;
        var buffer = ArrayPool<byte>.Shared.Rent(Window);
        try
        {
            foreach (var (start, end) in file.DataRanges(from, to))
            {
                var at = Math.Max(from, start);
                from = at;
                while (at < end)
                {
                    progress?.Invoke(at);
                    if (TryBlock(file, at, to, found) is { } next)
                    {
                        at = next;
                        from = next;
                        continue;
                    }
                    var count = file.Read(buffer.AsSpan(0, (int)Math.Min(Window, to - at - 1)), at + 1);
                    if (count <= 0)
                        break;
                    var place = buffer.AsSpan(0, count).IndexOf(BlockInfo.Magic);
                    at += place >= 0 ? place + 1 : Math.Max(1, count - BlockInfo.Magic.Length + 1);
                }
            }
        }
        finally
        {
            ArrayPool<byte>.Shared.Return(buffer);
        }
    }

    /// <summary>The lengths of a block's chunks, from its head in the file.</summary>
    /// <returns>Null when the head is damaged.</returns>
    public static int[]? LengthsOf(IByteSource file, BlockInfo block)
    {
        var head = new byte[BlockInfo.HeaderLength + 4 * block.ChunkCount];
        return file.Read(head, block.Offset) == head.Length ? LengthsIn(head, block) : null;
    }

    /// <summary>The lengths of a block's chunks, from its bytes.</summary>
    /// <param name="bytes">Its head, and what may follow.</param>
    /// <param name="block">What the index says of it.</param>
    /// <returns>Null when the head is damaged.</returns>
    public static int[]? LengthsIn(ReadOnlySpan<byte> bytes, BlockInfo block)
    {
        var head = bytes[..(BlockInfo.HeaderLength + 4 * block.ChunkCount)];
        if (BlockInfo.HeaderChecksum(head) != BinaryPrimitives.ReadUInt64LittleEndian(head[32..]))
            return null;
        var lengths = new int[block.ChunkCount];
        long sum = 0;
        for (var i = 0; i < lengths.Length; i++)
        {
            lengths[i] = BinaryPrimitives.ReadInt32LittleEndian(head[(BlockInfo.HeaderLength + 4 * i)..]);
            sum += lengths[i];
            if (lengths[i] < 0 || sum > block.PlainLength)
                return null;
        }
        return lengths;
    }

    // Where the sound block that begins here ends; null when there is none.
    private static long? TryBlock(IByteSource file, long at, long to, Found found)
    {
        Span<byte> start = stackalloc byte[BlockInfo.HeaderLength];
        if (file.Read(start, at) < start.Length || BlockInfo.DecodeHeader(start, at) is not { } block || at > to - block.WholeLength
            || LengthsOf(file, block) is not { } lengths)
            return null;
        var stored = ArrayPool<byte>.Shared.Rent(block.StoredLength);
        var plain = ArrayPool<byte>.Shared.Rent(block.PlainLength);
        try
        {
            var payload = stored.AsSpan(0, block.StoredLength);
            if (file.Read(payload, block.PayloadOffset) < payload.Length || !block.TryExpand(payload, plain))
                return null;
            found(block, lengths, plain.AsMemory(0, block.PlainLength));
            return at + block.WholeLength;
        }
        finally
        {
            ArrayPool<byte>.Shared.Return(stored);
            ArrayPool<byte>.Shared.Return(plain);
        }
    }
}
