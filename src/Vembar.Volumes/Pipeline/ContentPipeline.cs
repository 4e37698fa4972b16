using System.Threading.Channels;
using Vembar.Store.Compression;
using Vembar.Store.Format;
using Vembar.Store.Writing;
using Vembar.Volumes.Sources;

namespace Vembar.Volumes.Pipeline;

/// <summary>
/// Reads many files, cuts and hashes them on all cores, looks the chunks up, groups the new ones into blocks in the
/// order of the files, compresses the blocks on all cores and appends them in order. Every queue is bounded, so memory
/// does not grow with the number of files. All that it began has ended when <see cref="RunAsync"/> has.
/// </summary>
/// <param name="sink">Where blocks go.</param>
/// <param name="source">Opens and reads the files.</param>
/// <param name="options">How.</param>
internal sealed class ContentPipeline(IChunkSink sink, ISource source, PipelineOptions options) : IDisposable
{
    private const int BatchFiles = 256;

    private readonly BatchReader _reader = new(sink.Sizes, source.Open, options.SkipUnreadable);
    private readonly Queue<Task<PackedBlock>> _packing = new();
    private BlockBuilder _builder = new(BlockKind.Content);

    public PipelineState State { get; private set; } = new(0, 0, 0, "");

    /// <summary>Files that changed while they were read, also at the last try.</summary>
    public List<string> Changed { get; } = [];

    /// <summary>Files that could not be read and were passed over.</summary>
    public List<ExcludedEntry> Unreadable { get; } = [];

    /// <summary>Stores the content of files and hands it to their entries.</summary>
    /// <param name="files">In the order in which their content should lie in the archive.</param>
    /// <param name="report">Told how far it is, after every piece.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <exception cref="Common.VembarException">A file cannot be read, or the archive not be written.</exception>
    public async Task RunAsync(IReadOnlyList<SourceNode> files, Action<PipelineState> report, CancellationToken cancellation)
    {
        using var stop = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        var running = new Queue<(Channel<ReadBuffer> Pieces, Task Reading)>();
        // One that fails stays among those that are waited for: nothing reads on when the source is closed.
        async Task ConsumeFirstAsync()
        {
            await ConsumeAsync(running.Peek().Pieces.Reader, report, cancellation).ConfigureAwait(false);
            running.Dequeue();
        }
        try
        {
            foreach (var batch in Batches(files))
            {
                if (running.Count > options.Workers)
                    await ConsumeFirstAsync().ConfigureAwait(false);
                var pieces = Channel.CreateBounded<ReadBuffer>(2);
                running.Enqueue((pieces, Task.Run(() => _reader.ReadAsync(batch, pieces.Writer, stop.Token), stop.Token)));
            }
            while (running.Count > 0)
                await ConsumeFirstAsync().ConfigureAwait(false);
            if (!_builder.IsEmpty)
                await PackAsync().ConfigureAwait(false);
            while (_packing.Count > 0)
                await AppendNextAsync().ConfigureAwait(false);
        }
        finally
        {
            await stop.CancelAsync().ConfigureAwait(false);
            foreach (var (pieces, reading) in running)
            {
                while (pieces.Reader.TryRead(out var piece))
                    piece.Dispose();
                await reading.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
                while (pieces.Reader.TryRead(out var piece))
                    piece.Dispose();
            }
            foreach (var packing in _packing)
            {
                await ((Task)packing).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
                if (packing.IsCompletedSuccessfully)
                    (await packing.ConfigureAwait(false)).Dispose();
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
            if (batch.Count > 0 && (bytes + file.Length > BatchReader.BatchBytes || batch.Count >= BatchFiles))
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

    private async Task ConsumeAsync(ChannelReader<ReadBuffer> pieces, Action<PipelineState> report, CancellationToken cancellation)
    {
        while (await pieces.WaitToReadAsync(cancellation).ConfigureAwait(false))
        {
            while (pieces.TryRead(out var piece))
            {
                using (piece)
                    await StoreAsync(piece).ConfigureAwait(false);
                report(State);
            }
        }
    }

    private async Task StoreAsync(ReadBuffer piece)
    {
        var fresh = 0L;
        foreach (var (id, offset, length) in piece.Chunks)
        {
            if (!sink.TryClaim(id))
                continue;
            if (_builder.IsFullFor(length))
                await PackAsync().ConfigureAwait(false);
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

    private async Task PackAsync()
    {
        while (_packing.Count > options.Workers)
            await AppendNextAsync().ConfigureAwait(false);
        var builder = _builder;
        _builder = new BlockBuilder(BlockKind.Content);
        _packing.Enqueue(Task.Run(() => Pack(builder)));
    }

    private PackedBlock Pack(BlockBuilder builder)
    {
        using (builder)
        {
            var zstd = ZstdPool.Rent();
            var block = builder.Pack(options.Effort, zstd, sink.IsVeiled);
            ZstdPool.Return(zstd);
            return block;
        }
    }

    private async Task AppendNextAsync()
    {
        // It stays among those that are waited for until it is packed.
        await ((Task)_packing.Peek()).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        using var block = await _packing.Dequeue().ConfigureAwait(false);
        sink.Append(block);
    }
}
