using System.Buffers;
using System.IO.Hashing;
using System.Text.Json;
using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Store.Format;
using Vembar.Store.Hashing;
using Vembar.Store.Index;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Vembar.Store.Writing;

namespace Vembar.Operations.Verify;

/// <summary>What was found in a damaged archive without an index, beside the last state that has one. Blocks go to the new archive as they
/// stand, each once; none is compressed again.</summary>
/// <param name="file">The damaged archive.</param>
/// <param name="path">Its path, for messages.</param>
/// <param name="bases">What it is based on; null where that is not known.</param>
/// <param name="archive">The last state that can be read; null for none.</param>
internal sealed class RecoveryScan(IByteSource file, string path, BaseArchives? bases, ArchiveReader? archive) : IChunkSource
{
    private const long MostExpanded = 64 << 20;
    private readonly ChunkTable _chunks = new();
    private readonly List<(BlockInfo Block, ChunkId[] Ids)> _found = [];
    private readonly Dictionary<long, int> _numbers = [];
    private readonly List<(ChunkId Id, byte[] Bytes)> _records = [];
    // Expanded blocks, the last used at the end: folders lie together, and are asked for one after the other.
    private readonly LinkedList<(long Offset, byte[] Plain)> _expanded = [];
    private readonly HashSet<long> _taken = [];
    private long _expandedBytes;

    /// <summary>Sound blocks that were found.</summary>
    public long Blocks { get; private set; }

    /// <summary>Bytes of blocks that were put into the new archive.</summary>
    public long BytesTaken { get; private set; }

    /// <summary>Looks for blocks behind the last state; where there is none, from the first byte on.</summary>
    /// <exception cref="OperationCanceledException">It was ended.</exception>
    public void Run(IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var length = file.Length;
        Blocks = archive?.Segments.Sum(s => (long)s.BlockCount) ?? 0;
        BlockScan.Run(file, archive?.CommittedLength ?? 0, length, (block, lengths, plain) =>
        {
            cancellation.ThrowIfCancellationRequested();
            var ids = Hashed(lengths, plain);
            var offset = 0;
            for (var i = 0; i < lengths.Length; i++)
            {
                _chunks.Set(ids[i], _found.Count, offset, lengths[i]);
                if (block.Kind == BlockKind.Record)
                    _records.Add((ids[i], plain.Slice(offset, lengths[i]).ToArray()));
                offset += lengths[i];
            }
            _numbers[block.Offset] = _found.Count;
            _found.Add((block, ids));
            Blocks++;
        }, at =>
        {
            cancellation.ThrowIfCancellationRequested();
            progress.Report(new OperationProgress("looking for blocks", at, length, true, ""));
        });
    }

    private bool TryFind(ChunkId id, out ChunkPlace place)
    {
        if (_chunks.TryFind(id, out var row))
        {
            place = new ChunkPlace(_found[row.Block].Block, row.Offset, row.Length);
            return true;
        }
        place = default;
        return archive?.TryFind(id, out place) == true;
    }

    /// <inheritdoc/>
    public bool Contains(ChunkId id) => TryFind(id, out _) || archive?.Contains(id) == true || bases?.FindOwner(id, out _) is not null;

    /// <inheritdoc/>
    public ReadOnlyMemory<byte> Read(ChunkId id)
    {
        if (!TryFind(id, out var place))
            return archive?.Read(id) ?? (bases?.FindOwner(id, out var elsewhere) is { } holder ? holder.Read(id, elsewhere)
                : throw VembarException.Damaged($"'{path}' lacks content that it names ({id})"));
        var bytes = Expanded(place.Block).AsMemory(place.Offset, place.Length);
        return Blake3.Hash(bytes.Span) == id ? bytes
            : throw VembarException.Damaged($"'{path}' is damaged at byte {place.Block.Offset}");
    }

    private byte[] Expanded(BlockInfo block)
    {
        for (var node = _expanded.Last; node is not null; node = node.Previous)
        {
            if (node.Value.Offset != block.Offset)
                continue;
            _expanded.Remove(node);
            _expanded.AddLast(node);
            return node.Value.Plain;
        }
        var stored = ArrayPool<byte>.Shared.Rent(block.StoredLength);
        try
        {
            var plain = new byte[block.PlainLength];
            var payload = stored.AsSpan(0, block.StoredLength);
            if (file.Read(payload, block.PayloadOffset) < payload.Length || !block.TryExpand(payload, plain))
                throw VembarException.Damaged($"'{path}' is damaged at byte {block.Offset}");
            _expanded.AddLast((block.Offset, plain));
            _expandedBytes += plain.Length;
            while (_expandedBytes > MostExpanded && _expanded.Count > 1)
            {
                _expandedBytes -= _expanded.First!.Value.Plain.Length;
                _expanded.RemoveFirst();
            }
            return plain;
        }
        finally
        {
            ArrayPool<byte>.Shared.Return(stored);
        }
    }

    /// <summary>Puts a chunk into the new archive, with the block that it is in.</summary>
    /// <exception cref="VembarException">It is not there or damaged; or the new archive cannot be written.</exception>
    public void Take(ChunkId id, BlockKind kind, ArchiveWriter writer)
    {
        if (writer.Contains(id))
            return;
        if (TryFind(id, out var place) && _taken.Add(place.Block.Offset))
            TakeBlock(place.Block, writer);
        // From an archive that it is based on, or a block that was damaged in part.
        if (!writer.Contains(id))
            writer.Add(kind, Read(id).Span);
    }

    private void TakeBlock(BlockInfo block, ArchiveWriter writer)
    {
        var rented = ArrayPool<byte>.Shared.Rent((int)block.WholeLength);
        try
        {
            TakeBlock(block, rented.AsSpan(0, (int)block.WholeLength), writer);
        }
        finally
        {
            ArrayPool<byte>.Shared.Return(rented);
        }
    }

    private void TakeBlock(BlockInfo block, Span<byte> whole, ArchiveWriter writer)
    {
        if (file.Read(whole, block.Offset) < whole.Length || BlockInfo.DecodeHeader(whole, block.Offset) != block
            || BlockScan.LengthsIn(whole, block) is not { } lengths)
            return;
        // The chunks of a block that was found were hashed then; its checksum says whether it still is the same.
        var payload = whole[(int)(block.PayloadOffset - block.Offset)..];
        ChunkId[]? ids = null;
        if (_numbers.TryGetValue(block.Offset, out var number) && XxHash3.HashToUInt64(payload) == block.Checksum)
            ids = _found[number].Ids;
        ids ??= Hashed(block, lengths, payload.ToArray());
        if (ids is null)
            return;
        writer.AppendWhole(block, whole, [.. ids.Zip(lengths)]);
        BytesTaken += whole.Length;
    }

    private static ChunkId[] Hashed(int[] lengths, ReadOnlyMemory<byte> plain)
    {
        const int Few = 4;
        var offsets = new int[lengths.Length];
        for (var i = 1; i < offsets.Length; i++)
            offsets[i] = offsets[i - 1] + lengths[i - 1];
        var ids = new ChunkId[lengths.Length];
        void Hash(int i) => ids[i] = Blake3.Hash(plain.Span.Slice(offsets[i], lengths[i]));
        if (lengths.Length > Few)
            Parallel.For(0, lengths.Length, Hash);
        else
        {
            for (var i = 0; i < lengths.Length; i++)
                Hash(i);
        }
        return ids;
    }

    private static ChunkId[]? Hashed(BlockInfo block, int[] lengths, byte[] payload)
    {
        var plain = ArrayPool<byte>.Shared.Rent(block.PlainLength);
        try
        {
            return block.TryExpand(payload, plain) ? Hashed(lengths, plain.AsMemory(0, block.PlainLength)) : null;
        }
        finally
        {
            ArrayPool<byte>.Shared.Return(plain);
        }
    }

    /// <summary>The images that the newest readable catalogue lists; without one, the last record of every number.</summary>
    public (IReadOnlyList<ImageRecord> Images, List<Damage> Lost) Images()
    {
        foreach (var (id, bytes) in _records.AsEnumerable().Reverse())
        {
            if (IsCatalogue(bytes) && Whole(id) is { } catalogue && Listed(catalogue) is { Images.Count: > 0 } listed)
                return listed;
        }
        foreach (var state in archive?.States() ?? [])
        {
            if (state.Catalogue is { } catalogue && Listed(catalogue) is { Images.Count: > 0 } listed)
                return listed;
        }
        var images = new Dictionary<int, ImageRecord>();
        foreach (var (_, bytes) in _records)
        {
            if (TryParse(bytes, ImageRecordJson.Default.ImageRecord) is { Number: > 0 } record)
                images[record.Number] = record;
        }
        return ([.. images.Values.OrderBy(i => i.Number)], []);
    }

    private static bool IsCatalogue(byte[] bytes) => bytes.AsSpan().StartsWith("{\"nextNumber\""u8);

    // Null where one of those that it is a change of is lost.
    private Catalogue? Whole(ChunkId id)
    {
        var changes = new Stack<Catalogue>();
        for (ChunkId? at = id; at is { } next;)
        {
            if (Record(next) is not { } bytes || !IsCatalogue(bytes)
                || TryParse(bytes, RecordJson.Default.Catalogue) is not { Images: not null } stored)
                return null;
            changes.Push(stored);
            at = stored.Since;
        }
        var whole = changes.Pop();
        while (changes.TryPop(out var change))
            whole = change.On(whole);
        return whole;
    }

    private byte[]? Record(ChunkId id)
    {
        try
        {
            return _chunks.Contains(id) ? Read(id).ToArray() : archive?.ReadRecord(id).ToArray();
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged)
        {
            return null;
        }
    }

    private (IReadOnlyList<ImageRecord> Images, List<Damage> Lost) Listed(Catalogue catalogue)
    {
        var images = new List<ImageRecord>();
        var lost = new List<Damage>();
        var channels = (catalogue.Channels ?? []).ToLookup(c => c.Image, c => c.Channel);
        foreach (var entry in catalogue.Images.OrderBy(e => e.Number))
        {
            if (Record(entry.Record) is { } bytes && TryParse(bytes, ImageRecordJson.Default.ImageRecord) is { } record)
                images.Add(record with
                {
                    Number = entry.Number,
                    Channels = channels[entry.Number].ToList() is { Count: > 0 } own ? own : null,
                });
            else
                lost.Add(new Damage(entry.Number, "", "the whole image: its record is damaged"));
        }
        return (images, lost);
    }

    private static T? TryParse<T>(byte[] bytes, System.Text.Json.Serialization.Metadata.JsonTypeInfo<T> type) where T : class
    {
        try
        {
            return JsonSerializer.Deserialize(bytes, type);
        }
        catch (JsonException)
        {
            return null;
        }
    }
}
