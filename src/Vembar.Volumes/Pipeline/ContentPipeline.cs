using System.Buffers;
using System.Threading.Channels;
using Vembar.Common;
using Vembar.Images.Contents;
using Vembar.Images.Nodes;
using Vembar.Store.Chunking;
using Vembar.Store.Compression;
using Vembar.Store.Format;
using Vembar.Store.Hashing;
using Vembar.Store.Writing;
using Vembar.Volumes.Sources;

namespace Vembar.Volumes.Pipeline;

/// <summary>
/// Reads many files, cuts and hashes them on all cores, looks the chunks up, groups the new ones into blocks in the
/// order of the files, compresses the blocks on all cores and appends them in order. Every queue is bounded, so memory
/// does not grow with the number of files.
/// </summary>
internal sealed class ContentPipeline : IDisposable
{
    private const int BatchBytes = 4 << 20, BatchFiles = 256, Tries = 3;

    // Read at a time, so that what is read is still in the processor's caches when it is cut and hashed.
    private const int StretchBytes = 1 << 20;

    private readonly IChunkSink _sink;
    private readonly Effort _effort;
    private readonly Func<SourceNode, ISourceFile> _open;
    private readonly bool _skipUnreadable;
    private readonly Chunker _chunker;
    private readonly CancellationToken _cancellation;
    private readonly Queue<Task<PackedBlock>> _packing = new();
    private BlockBuilder _builder = new(BlockKind.Content);

    public ContentPipeline(IChunkSink sink, Effort effort, Func<SourceNode, ISourceFile> open, bool skipUnreadable,
        CancellationToken cancellation)
    {
        _skipUnreadable = skipUnreadable;
        _sink = sink;
        _effort = effort;
        _open = open;
        _chunker = new Chunker(sink.Sizes);
        _cancellation = cancellation;
    }

    public PipelineState State { get; private set; } = new(0, 0, 0, "");

    /// <summary>Files that changed while they were read, also at the last try.</summary>
    public List<string> Changed { get; } = [];

    /// <summary>Files that could not be read and were passed over.</summary>
    public List<ExcludedEntry> Unreadable { get; } = [];

    private readonly record struct FileResult(SourceNode Node, FileContent? Content, bool Changed, string? Unreadable);

    // A stretch of read content: the bytes, the chunks in them, and the files that ended with it.
    private sealed class ReadBuffer(int room) : IDisposable
    {
        public byte[] Buffer { get; } = ArrayPool<byte>.Shared.Rent(room);
        public int Used { get; set; }
        public List<(ChunkId Id, int Offset, int Length)> Chunks { get; } = [];
        public List<FileResult> Results { get; } = [];

        /// <summary>Bytes that were read only to be compared.</summary>
        public long Compared { get; set; }

        public void Dispose() => ArrayPool<byte>.Shared.Return(Buffer);
    }

    /// <summary>Stores the content of files and hands it to their entries.</summary>
    /// <param name="files">In the order in which their content should lie in the archive.</param>
    /// <param name="report">Told how far it is, after every piece.</param>
    /// <exception cref="VembarException">A file cannot be read, or the archive not be written.</exception>
    public void Run(IReadOnlyList<SourceNode> files, Action<PipelineState> report)
    {
        using var stop = CancellationTokenSource.CreateLinkedTokenSource(_cancellation);
        var running = new Queue<(Channel<ReadBuffer> Pieces, Task Reading)>();
        var max = Environment.ProcessorCount + 1;
        // One that fails stays among those that are waited for: nothing reads on when the source is closed.
        void DrainFirst()
        {
            Consume(running.Peek(), report);
            running.Dequeue();
        }
        try
        {
            foreach (var batch in Batches(files))
            {
                if (running.Count >= max)
                    DrainFirst();
                var pieces = Channel.CreateBounded<ReadBuffer>(2);
                running.Enqueue((pieces, Task.Run(() => Read(batch, pieces.Writer, stop.Token), stop.Token)));
            }
            while (running.Count > 0)
                DrainFirst();
            if (!_builder.IsEmpty)
                Pack();
            while (_packing.Count > 0)
                AppendNext();
        }
        finally
        {
            stop.Cancel();
            foreach (var (pieces, reading) in running)
            {
                while (pieces.Reader.TryRead(out var piece))
                    piece.Dispose();
                ((IAsyncResult)reading).AsyncWaitHandle.WaitOne();
            }
            foreach (var packing in _packing)
            {
                ((IAsyncResult)packing).AsyncWaitHandle.WaitOne();
                if (packing.IsCompletedSuccessfully)
                    packing.Result.Dispose();
            }
        }
    }

    public void Dispose() => _builder.Dispose();

    private static IEnumerable<List<SourceNode>> Batches(IReadOnlyList<SourceNode> files)
    {
        var batch = new List<SourceNode>();
        var bytes = 0L;
        foreach (var file in files)
        {
            if (batch.Count > 0 && (bytes + file.Length > BatchBytes || batch.Count >= BatchFiles))
            {
                yield return batch;
                batch = [];
                bytes = 0;
            }
            batch.Add(file);
            bytes += file.Length;
        }
        if (batch.Count > 0)
            yield return batch;
    }

    private async Task Read(List<SourceNode> batch, ChannelWriter<ReadBuffer> pieces, CancellationToken stop)
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
                        using var file = _open(node);
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
                        if (!_skipUnreadable)
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
        failure is Native.NativeException { Errno: not (Native.Errno.AccessDenied or Native.Errno.NotPermitted) }
        ? VembarException.Input("unreadable", $"'{node.Path}' cannot be read: {failure.Message}",
        Advice.Of("source-damaged"))
        : VembarException.From(failure, "read", node.Path.ToString())!;

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

    private void Consume((Channel<ReadBuffer> Pieces, Task Reading) batch, Action<PipelineState> report)
    {
        while (batch.Pieces.Reader.WaitToReadAsync(_cancellation).AsTask().GetAwaiter().GetResult())
        {
            while (batch.Pieces.Reader.TryRead(out var piece))
            {
                using (piece)
                    StoreResults(piece);
                report(State);
            }
        }
    }

    private void StoreResults(ReadBuffer piece)
    {
        var fresh = 0L;
        foreach (var (id, offset, length) in piece.Chunks)
        {
            if (!_sink.TryClaim(id))
                continue;
            if (_builder.IsFullFor(length))
                Pack();
            _builder.Add(id, piece.Buffer.AsSpan(offset, length));
            fresh += length;
        }
        foreach (var (node, content, changed, unreadable) in piece.Results)
        {
            if (unreadable is not null)
                Unreadable.Add(new ExcludedEntry(node.Path.ToString(), $"unreadable: {unreadable}"));
            if (content is null)
                node.Vanished = true;
            else if (changed)
                Changed.Add(node.Path.ToString());
            node.Content = content;
        }
        State = new PipelineState(State.Files + piece.Results.Count, State.BytesRead + piece.Used + piece.Compared, State.BytesNew + fresh,
            piece.Results.Count > 0 ? piece.Results[^1].Node.Path.ToString() : State.Current);
    }

    private void Pack()
    {
        while (_packing.Count > Environment.ProcessorCount)
            AppendNext();
        var builder = _builder;
        _builder = new BlockBuilder(BlockKind.Content);
        _packing.Enqueue(Task.Run(() =>
        {
            using (builder)
            {
                var zstd = ZstdPool.Rent();
                var block = builder.Pack(_effort, zstd, _sink.IsVeiled);
                ZstdPool.Return(zstd);
                return block;
            }
        }));
    }

    private void AppendNext()
    {
        using var block = _packing.Dequeue().GetAwaiter().GetResult();
        _sink.Append(block);
    }
}
