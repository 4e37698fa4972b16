using System.Buffers;
using System.IO.Hashing;
using Vembar.Common;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Store.Format;
using Vembar.Store.Hashing;
using Vembar.Store.Index;
using Vembar.Store.Reading;
using Vembar.Store.Writing;

namespace Vembar.Operations;

/// <summary>The chunks that one archive needs of another, by the block they are in.</summary>
internal sealed class NeededChunks(ArchiveReader source, ArchiveWriter writer)
{
    private readonly Dictionary<(ArchiveReader Holder, BlockInfo Block), List<(ChunkId Id, int Offset, int Length)>> _needed = [];
    private readonly HashSet<ChunkId> _seen = [];

    /// <summary>Adds what an image needs.</summary>
    public void Want(ImageTree tree, ChunkId root)
    {
        void Want(ChunkId id)
        {
            if (id.IsNone || !_seen.Add(id) || writer.Contains(id))
                return;
            var holder = source.FindOwner(id, out var place)
                ?? throw VembarException.Damaged($"'{source.Path}' lacks content that it names ({id})");
            if (!_needed.TryGetValue((holder, place.Block), out var list))
                _needed[(holder, place.Block)] = list = [];
            list.Add((id, place.Offset, place.Length));
        }
        void WantContent(FileContent? content, WindowsPath path)
        {
            if (content is null)
                return;
            Want(content.List);
            foreach (var part in tree.Parts(content, path))
                Want(part.Id);
        }
        void WantEntry(TreeEntry entry, WindowsPath path)
        {
            Want(entry.Security);
            WantContent(entry.Content, path);
            foreach (var stream in entry.Streams)
                WantContent(stream.Content, path);
            if (entry.Kind != EntryKind.Folder)
                return;
            if (_seen.Contains(entry.Folder))
                return;
            foreach (var page in tree.Pages(entry, path))
                Want(page);
            Want(entry.Folder);
            _seen.Add(entry.Folder);
            foreach (var child in tree.Entries(entry, path))
                WantEntry(child, path.Child(child.Name));
        }
        Want(root);
        WantEntry(tree.Root, WindowsPath.Root);
    }

    /// <summary>Copies what is wanted: whole blocks as they are where everything in them is needed, else chunk by chunk.</summary>
    /// <returns>Bytes read, bytes stored before compression, blocks that went as they are.</returns>
    public async Task<(long Read, long Fresh, long WholeBlocks)> CopyAsync(bool recompress, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var total = _needed.Sum(n => (long)n.Key.Block.StoredLength);
        long done = 0, fresh = 0, whole = 0;
        var ordered = _needed.OrderBy(n => n.Key.Holder == source ? 0 : 1).ThenBy(n => n.Key.Holder.Path, StringComparer.Ordinal)
            .ThenBy(n => n.Key.Block.Offset).ToList();
        bool GoesWhole(int at) =>
            !recompress && ordered[at].Value.Count == ordered[at].Key.Block.ChunkCount
            && (!ordered[at].Key.Block.IsVeiled || !writer.Base.Header.IsFirstFormat);
        using var fetching = source.FetchAhead(ordered.Where(n => n.Key.Holder == source).Select(n => n.Key.Block));
        // The next whole blocks are read and checked while one is written. What could pass for a structure of the archive is packed anew.
        var mayHoldAnything = !writer.Base.Header.IsFirstFormat;
        var ahead = new ReadAhead(ordered.Count,
            at => GoesWhole(at) ? ReadWhole(ordered[at].Key.Holder, ordered[at].Key.Block, mayHoldAnything) : null);
        await using var _ = ahead.ConfigureAwait(false);
        for (var at = 0; at < ordered.Count; at++)
        {
            cancellation.ThrowIfCancellationRequested();
            var ((holder, block), ids) = ordered[at];
            ids.Sort((a, b) => a.Offset.CompareTo(b.Offset));
            // Of the files, as everywhere; folders come on top.
            fresh += block.Kind == BlockKind.Content ? ids.Sum(i => (long)i.Length) : 0;
            using var read = await ahead.NextAsync().ConfigureAwait(false);
            if (read is not null)
            {
                writer.AppendWhole(block, read.Bytes, [.. ids.Select(i => (i.Id, i.Length))]);
                whole++;
            }
            else
            {
                foreach (var (id, offset, length) in ids)
                    writer.Add(block.Kind, holder.Read(id, new ChunkPlace(block, offset, length)).Span);
            }
            done += block.StoredLength;
            progress.Report(new OperationProgress("copying", done, total, true, ""));
        }
        return (done, fresh, whole);
    }

    private sealed record Rented(byte[] Array, int Length) : IDisposable
    {
        public ReadOnlySpan<byte> Bytes => Array.AsSpan(0, Length);

        public void Dispose() => ArrayPool<byte>.Shared.Return(Array);
    }

    // Reads a few blocks before they are asked for, in order.
    private sealed class ReadAhead(int count, Func<int, Rented?> read) : IAsyncDisposable
    {
        private const int Most = 2;
        private readonly Queue<Task<Rented?>> _reading = new();
        private int _begun;

        public async Task<Rented?> NextAsync()
        {
            for (; _begun < count && _reading.Count <= Most; _begun++)
            {
                var at = _begun;
                _reading.Enqueue(Task.Run(() => read(at)));
            }
            return await _reading.Dequeue().ConfigureAwait(false);
        }

        public async ValueTask DisposeAsync()
        {
            foreach (var reading in _reading)
            {
                await ((Task)reading).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
                if (reading.IsCompletedSuccessfully)
                    (await reading.ConfigureAwait(false))?.Dispose();
            }
        }
    }

    // Null where it holds what no block of this archive may.
    private static Rented? ReadWhole(ArchiveReader source, BlockInfo block, bool isWatched)
    {
        var rented = new Rented(ArrayPool<byte>.Shared.Rent((int)block.WholeLength), (int)block.WholeLength);
        var bytes = rented.Array.AsSpan(0, rented.Length);
        var headLength = (int)(block.PayloadOffset - block.Offset);
        if (source.TryReadWhole(block, bytes) && XxHash3.HashToUInt64(bytes[headLength..]) == block.Checksum
            && BlockInfo.HeaderChecksum(bytes[..headLength]) == System.Buffers.Binary.BinaryPrimitives.ReadUInt64LittleEndian(bytes[32..]))
        {
            if (!isWatched || !Veil.IsNeeded(bytes[headLength..]))
                return rented;
            rented.Dispose();
            return null;
        }
        rented.Dispose();
        throw VembarException.Damaged($"'{source.Path}' is damaged at byte {block.Offset}, in content of the image that is copied");
    }
}
