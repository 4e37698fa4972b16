using System.Buffers;
using System.Text.Json;
using System.Text.Json.Serialization.Metadata;
using Vembar.Common;
using Vembar.Store.Format;
using Vembar.Store.Hashing;
using Vembar.Store.Places;

namespace Vembar.Store.Reading;

/// <summary>The records and catalogues of an archive: each is there twice, and a catalogue may be told as a change of another.</summary>
/// <param name="archive">The archive.</param>
/// <param name="mending">Where else to look for records that are damaged in both copies; null for nowhere.</param>
internal sealed class ArchiveRecords(ArchiveReader archive, Mending? mending)
{
    // What is read ahead of a remote archive, in bytes: records of some hundred images and states.
    private const int AheadBytes = 512 << 10;
    private const int KeptCatalogues = 4;

    private readonly Dictionary<ChunkId, Catalogue> _catalogues = [];
    private Dictionary<ChunkId, byte[]> _ahead = [];
    private Dictionary<ChunkId, byte[]>? _copies;

    /// <summary>The whole catalogue that a chunk, and those that it is a change of, describe.</summary>
    /// <exception cref="VembarException">One of them is damaged in both copies.</exception>
    public Catalogue Catalogue(ChunkId id)
    {
        var changes = new Stack<(ChunkId Id, Catalogue Change)>();
        Catalogue? whole;
        while (!_catalogues.TryGetValue(id, out whole))
        {
            var stored = Read(id, RecordJson.Default.Catalogue, "catalogue of images");
            if (stored.Since is not { } since)
            {
                whole = stored;
                break;
            }
            changes.Push((id, stored));
            id = since;
        }
        while (changes.TryPop(out var change))
        {
            whole = change.Change.On(whole);
            id = change.Id;
        }
        if (_catalogues.Count >= KeptCatalogues)
            _catalogues.Clear();
        return _catalogues[id] = whole;
    }

    /// <summary>The bytes of a record or a catalogue, from the copy that is sound.</summary>
    /// <exception cref="VembarException">Both are damaged.</exception>
    public ReadOnlyMemory<byte> Read(ChunkId id)
    {
        if (_ahead.TryGetValue(id, out var known))
            return known;
        // Records are never in a base.
        if (archive.TryFind(id, out var place))
        {
            try
            {
                return archive.Read(id, place);
            }
            catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged)
            {
                // Then the other copy.
            }
        }
        _copies ??= ReadBlocks([.. archive.RecordBlocks()]);
        if (_copies.TryGetValue(id, out var copy))
            return copy;
        return mending?.Elsewhere(id) ?? throw VembarException.Damaged($"'{archive.Path}' does not hold it any more ({id})");
    }

    /// <summary>A record or a catalogue, from the copy that is sound.</summary>
    /// <param name="id">Its id.</param>
    /// <param name="type">What it is.</param>
    /// <param name="what">What it is called, for messages.</param>
    /// <exception cref="VembarException">Both copies are damaged.</exception>
    public T Read<T>(ChunkId id, JsonTypeInfo<T> type, string what)
    {
        try
        {
            return JsonSerializer.Deserialize(Read(id).Span, type) ?? throw new JsonException("nothing there");
        }
        catch (JsonException problem)
        {
            throw VembarException.Damaged($"'{archive.Path}': the {what} cannot be read: {problem.Message}");
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged)
        {
            throw VembarException.Damaged($"'{archive.Path}': the {what} is damaged in both its copies: {problem.Message}");
        }
    }

    /// <summary>Reads the newest records with one request, so that those that are wanted need none of their own.</summary>
    /// <exception cref="VembarException">The index makes no sense.</exception>
    public void ReadAhead()
    {
        var left = (long)AheadBytes;
        // Of the two copies the first one.
        var blocks = archive.RecordBlocks().GroupBy(b => b with { Offset = 0 }).Select(g => g.MinBy(b => b.Offset))
            .OrderByDescending(b => b.Offset).TakeWhile(b => (left -= b.WholeLength) >= 0).ToList();
        _ahead = ReadBlocks(blocks);
    }

    // All chunks of those of the blocks that are sound.
    private Dictionary<ChunkId, byte[]> ReadBlocks(List<BlockInfo> blocks)
    {
        var found = new Dictionary<ChunkId, byte[]>();
        var ranges = blocks.ConvertAll(b => new ByteRange(b.Offset, new byte[b.WholeLength]));
        archive.File.ReadMany(ranges);
        foreach (var (block, range) in blocks.Zip(ranges))
        {
            var plain = ArrayPool<byte>.Shared.Rent(block.PlainLength);
            if (range.IsComplete && BlockScan.LengthsIn(range.Buffer.Span, block) is { } lengths
                && block.TryExpand(range.Buffer.Span[(int)(block.PayloadOffset - block.Offset)..], plain))
            {
                var offset = 0;
                foreach (var length in lengths)
                {
                    var bytes = plain.AsSpan(offset, length).ToArray();
                    found[Blake3.Hash(bytes)] = bytes;
                    offset += length;
                }
            }
            ArrayPool<byte>.Shared.Return(plain);
        }
        return found;
    }
}
