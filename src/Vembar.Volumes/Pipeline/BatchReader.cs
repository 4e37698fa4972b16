using System.Buffers;
using System.Threading.Channels;
using Vembar.Common;
using Vembar.Images.Contents;
using Vembar.Images.Nodes;
using Vembar.Store.Chunking;
using Vembar.Store.Hashing;
using Vembar.Volumes.Sources;

namespace Vembar.Volumes.Pipeline;

/// <summary>Reads files, and cuts and hashes what is in them.</summary>
/// <param name="sizes">Where content is cut.</param>
/// <param name="open">Opens a file; several threads may do so at once.</param>
/// <param name="skipUnreadable">Whether files that cannot be read are told as such, instead of ending it.</param>
internal sealed class BatchReader(ChunkSizes sizes, Func<SourceNode, ISourceFile> open, bool skipUnreadable)
{
    /// <summary>How many bytes a batch of files holds at least, if there are as many.</summary>
    public const int BatchBytes = 4 << 20;

    private const int Tries = 3;

    // Read at a time, so that what is read is still in the processor's caches when it is cut and hashed.
    private const int StretchBytes = 1 << 20;

    private readonly Chunker _chunker = new(sizes);

    /// <summary>Reads files one after the other.</summary>
    /// <param name="batch">The files.</param>
    /// <param name="pieces">Given what was read; completed when all is, or with what stood in the way.</param>
    /// <param name="stop">Ends it.</param>
    public async Task ReadAsync(List<SourceNode> batch, ChannelWriter<ReadBuffer> pieces, CancellationToken stop)
    {
        ReadBuffer? piece = null;
        // Many small files need little room.
        var room = (int)Math.Min(BatchBytes, batch.Sum(n => n.Length));
        try
        {
            foreach (var node in batch)
            {
                stop.ThrowIfCancellationRequested();
                for (var attempt = 1; ; attempt++)
                {
                    var hash = default(Blake3);
                    var parts = new List<ContentPart>();
                    try
                    {
                        using var file = open(node);
                        var length = file.Length;
                        if (attempt == 1 && node.Content is { } earlier && earlier.Length == length && IsStill(earlier, file)
                            && !file.HasChanged())
                        {
#pragma warning disable CA2000 // handed on through the channel, or given back in the end
                            piece ??= new ReadBuffer(4096);
#pragma warning restore CA2000
                            piece.Results.Add(new FileResult(node, earlier, false, null));
                            piece.Compared += length;
                            break;
                        }
                        var data = (Start: 0L, End: 0L);
                        var offset = 0L;
                        var isSparse = ContentStore.HolesOf(file, _chunker.Largest) >= SparseContent.Least;
                        while (offset < length)
                        {
                            if (offset >= data.End)
                            {
                                data = file.NextData(offset);
                                // Small holes are as well read as zeros, so that a file of many pieces is read in few stretches.
                                if (data.Start - offset < _chunker.Largest)
                                    data.Start = offset;
                                while (data.End < length && data.End - data.Start < StretchBytes && file.NextData(data.End) is var next
                                    && next.Start - data.End < _chunker.Largest)
                                    data.End = next.Start < next.End ? next.End : length;
                            }
                            if (data.Start > offset)
                            {
                                hash ??= new Blake3();
                                if (!isSparse)
                                    AppendZeros(hash, data.Start - offset);
                                parts.Add(new ContentPart(default, data.Start - offset));
                                offset = data.Start;
                                continue;
                            }
                            var want = (int)Math.Min(Math.Max(StretchBytes, _chunker.Largest), data.End - offset);
                            if (piece is not null && piece.Buffer.Length - piece.Used < want)
                            {
                                await pieces.WriteAsync(piece, stop).ConfigureAwait(false);
                                piece = null;
                            }
#pragma warning disable CA2000 // handed on through the channel, or given back in the end
                            piece ??= new ReadBuffer(Math.Max(want, room));
#pragma warning restore CA2000
                            var bytes = piece.Buffer.AsMemory(piece.Used, want);
                            var got = file.Read(bytes.Span, offset);
                            if (got == 0)
                                break;
                            var ends = offset + got >= data.End || got < want;
                            var cut = CutAll(piece, bytes[..got].Span, ends, parts);
                            if (!isSparse && (parts.Count > 1 || cut < length))
                                (hash ??= new Blake3()).Append(bytes.Span[..cut]);
                            piece.Used += cut;
                            offset += cut;
                        }
                        var changed = offset != length || file.HasChanged();
                        if (changed && attempt < Tries)
                            continue;
                        var content = offset == 0 ? FileContent.Empty
                            : new FileContent(offset,
                            isSparse ? SparseContent.HashOf(parts) : parts is [{ IsHole: false } only] ? only.Id : hash!.Finish(), parts);
#pragma warning disable CA2000 // handed on through the channel, or given back in the end
                        piece ??= new ReadBuffer(4096);
#pragma warning restore CA2000
                        piece.Results.Add(new FileResult(node, content, changed, null));
                        break;
                    }
                    catch (Native.NativeException failure) when (failure.Errno == Native.Errno.NotFound)
                    {
#pragma warning disable CA2000 // handed on through the channel, or given back in the end
                        piece ??= new ReadBuffer(4096);
#pragma warning restore CA2000
                        piece.Results.Add(new FileResult(node, null, true, null));
                        break;
                    }
                    catch (Exception failure) when (failure is IOException)
                    {
                        if (!skipUnreadable || VembarException.ServerGone(failure) is not null)
                            throw Unread(node, failure);
#pragma warning disable CA2000 // handed on through the channel, or given back in the end
                        piece ??= new ReadBuffer(4096);
#pragma warning restore CA2000
                        piece.Results.Add(new FileResult(node, null, true, failure.Message));
                        break;
                    }
                }
            }
            if (piece is not null)
                await pieces.WriteAsync(piece, stop).ConfigureAwait(false);
            piece = null;
            pieces.Complete();
        }
        catch (Exception failure)
        {
            piece?.Dispose();
            pieces.Complete(failure);
        }
    }

    // Whether a file has the content that it had in an earlier image: one hash of the whole, with nothing to cut or to copy.
    private static bool IsStill(FileContent earlier, ISourceFile file)
    {
        if (earlier.Parts?.Any(p => p.IsHole) == true || file.NextData(0) != (0, file.Length))
            return false;
        var buffer = ArrayPool<byte>.Shared.Rent((int)Math.Min(earlier.Length, StretchBytes));
        try
        {
            if (earlier.Length <= buffer.Length)
                return file.Read(buffer.AsSpan(0, (int)earlier.Length), 0) == earlier.Length
                    && Blake3.Hash(buffer.AsSpan(0, (int)earlier.Length)) == earlier.Hash;
            var hash = new Blake3();
            for (var offset = 0L; offset < earlier.Length;)
            {
                var got = file.Read(buffer.AsSpan(0, (int)Math.Min(buffer.Length, earlier.Length - offset)), offset);
                if (got == 0)
                    return false;
                hash.Append(buffer.AsSpan(0, got));
                offset += got;
            }
            return hash.Finish() == earlier.Hash;
        }
        finally
        {
            ArrayPool<byte>.Shared.Return(buffer);
        }
    }

    private static VembarException Unread(SourceNode node, Exception failure) =>
        VembarException.ServerGone(failure)
        ?? (failure is Native.NativeException { Errno: not (Native.Errno.AccessDenied or Native.Errno.NotPermitted) }
        ? VembarException.Input("unreadable", $"'{node.Path}' cannot be read: {failure.Message}",
        Advice.Of("source-damaged"))
        : VembarException.From(failure, "read", node.Path.ToString())!);

    // Cuts as much as can be cut now; what is left at the end of a stretch that goes on is read again with what follows.
    private int CutAll(ReadBuffer piece, ReadOnlySpan<byte> bytes, bool ends, List<ContentPart> parts)
    {
        var at = 0;
        while (at < bytes.Length)
        {
            var rest = bytes[at..];
            var length = _chunker.Next(rest);
            // A boundary further on may be behind what was read.
            if (!ends && length == rest.Length && length < _chunker.Largest)
                break;
            var id = Blake3.Hash(rest[..length]);
            piece.Chunks.Add((id, piece.Used + at, length));
            parts.Add(new ContentPart(id, length));
            at += length;
        }
        return at;
    }

    private static void AppendZeros(Blake3 hash, long count)
    {
        var zeros = new byte[1 << 20];
        for (; count > 0; count -= Math.Min(count, zeros.Length))
            hash.Append(zeros.AsSpan(0, (int)Math.Min(count, zeros.Length)));
    }
}
