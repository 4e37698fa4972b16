using System.Buffers.Binary;
using System.IO.Hashing;
using System.Text.Json;
using Vembar.Core.Archives;
using Vembar.Core.Content;
using Vembar.Core.Trees;

namespace Vembar.Core.Operations;

/// <summary>What recovering saved.</summary>
/// <param name="Archive">The new archive.</param>
/// <param name="Images">The images in it.</param>
/// <param name="Blocks">Sound blocks that were found.</param>
/// <param name="Lost">Files and folders that could not be saved, each with its image.</param>
public sealed record RecoverResult(string Archive, IReadOnlyList<ImageRecord> Images, long Blocks, IReadOnlyList<Damage> Lost);

/// <summary>Makes a new archive of what can be read of a damaged one, by looking for blocks from its first byte to its last; it needs no index and no commit.</summary>
public static class RecoverOperation
{
    /// <summary>Recovers.</summary>
    /// <param name="place">The damaged archive; it is only read. What it took from a base is put into the new archive too, where the base is found.</param>
    /// <param name="to">The new archive; must not be there.</param>
    /// <param name="progress">Told how far it is.</param>
    /// <param name="cancellation">Ends it; the new archive is not left behind.</param>
    /// <exception cref="VembarException">Nothing can be recovered, or the new archive not be written.</exception>
    public static RecoverResult Run(ArchivePlace place, string to, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var path = place.Path;
        if (Path.Exists(to))
            throw VembarException.Input("target-exists", $"'{to}' is there already", "Name a file that is not there.");
        Checks.CanAddTo(to, null);
        IArchiveFile file;
        try
        {
            file = SystemFileLayer.Instance.Open(path, write: false);
        }
        catch (Exception failure) when (VembarException.From(failure, "open the archive", path) is { } error)
        {
            throw error;
        }
        using (file)
        using (var bases = Bases(place, file))
        {
            var scan = new Scan(file, path, bases);
            scan.Run(progress, cancellation);
            var records = scan.Records();
            if (records.Count == 0)
                throw VembarException.Damaged($"'{path}': {scan.Blocks} sound blocks were found, but no image's record among them", "Take it from another copy.");
            using var writer = ArchiveWriter.Open(to, create: true);
            var lost = new List<Damage>();
            var saved = new List<ImageRecord>();
            foreach (var record in records)
            {
                cancellation.ThrowIfCancellationRequested();
                progress.Report(new OperationProgress("saving images", record.Number, records.Count, false, record.Name));
                if (Save(scan, record, writer, lost, cancellation) is { } whole)
                    saved.Add(whole);
            }
            if (saved.Count == 0)
                throw VembarException.Damaged($"'{path}': no image's root folder can be read any more", "Take it from another copy.");
            writer.CommitRecovered(saved, $"recovered from {Path.GetFileName(path)}");
            return new RecoverResult(to, saved, scan.Blocks, lost);
        }
    }

    // The header may be what is damaged; then nothing is known of bases.
    private static BaseArchives? Bases(ArchivePlace place, IArchiveFile file)
    {
        try
        {
            var header = ArchiveHeader.Read(file, place.Path);
            return header.Bases.Count == 0 ? null : new BaseArchives(place, header, SystemFileLayer.Instance, 0);
        }
        catch (VembarException)
        {
            return null;
        }
    }

    // Folders are written anew from what is readable; where nothing is missing they come out the same to the byte.
    private static ImageRecord? Save(Scan scan, ImageRecord record, ArchiveWriter writer, List<Damage> lost, CancellationToken cancellation)
    {
        long files = 0, folders = 0;
        void Lose(WindowsPath path, string problem) => lost.Add(new Damage(record.Number, path.ToString(), problem));
        bool Content(ImageTree tree, FileContent content, WindowsPath path)
        {
            foreach (var part in tree.Parts(content, path))
            {
                if (!part.IsHole)
                    writer.Add(BlockKind.Content, scan.Read(part.Id).Span);
            }
            return true;
        }
        TreeEntry Folder(ImageTree tree, TreeEntry folder, WindowsPath path)
        {
            cancellation.ThrowIfCancellationRequested();
            folders++;
            var children = new List<TreeEntry>();
            foreach (var entry in tree.List(folder, path))
            {
                var own = path.Child(entry.Name);
                try
                {
                    if (!entry.Security.IsNone)
                        writer.Add(BlockKind.Tree, scan.Read(entry.Security).Span);
                    foreach (var stream in entry.Streams)
                        Content(tree, stream.Content, own);
                    if (entry.Content is not null)
                        Content(tree, entry.Content, own);
                    files += entry.Kind == EntryKind.Folder ? 0 : 1;
                    // Lists of parts are written anew with the folder.
                    children.Add(entry.Kind == EntryKind.Folder ? Folder(tree, entry, own)
                        : entry.Content is { Parts: null } content ? entry with { Content = new FileContent(content.Length, content.Hash, tree.Parts(content, own)) } : entry);
                }
                catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged)
                {
                    Lose(own, entry.Kind == EntryKind.Folder ? "the folder and all below it" : "its content");
                }
            }
            return folder with { Folder = TreeCodec.WriteFolder(writer, children) };
        }
        try
        {
            var tree = new ImageTree(scan, record.Root, $"image {record.Number}");
            var root = TreeCodec.WriteFolder(writer, [Folder(tree, tree.Root, WindowsPath.Root)]);
            return record with { Root = root, Files = files, Folders = folders };
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged)
        {
            Lose(WindowsPath.Root, "the whole image");
            return null;
        }
    }

    private sealed class Scan(IArchiveFile file, string path, BaseArchives? bases) : IChunkSource
    {
        private readonly Dictionary<ChunkId, ChunkPlace> _chunks = [];
        private readonly List<byte[]> _records = [];
        private (long Offset, byte[] Plain) _last = (-1, []);

        public long Blocks { get; private set; }

        public void Run(IProgress<OperationProgress> progress, CancellationToken cancellation)
        {
            const int Window = 4 << 20;
            var length = file.Length;
            var buffer = new byte[Window + BlockInfo.HeaderLength];
            for (long at = 0; at < length - BlockInfo.HeaderLength;)
            {
                cancellation.ThrowIfCancellationRequested();
                progress.Report(new OperationProgress("looking for blocks", at, length, true, ""));
                var count = file.Read(buffer, at);
                var found = buffer.AsSpan(0, count).IndexOf(BlockInfo.Magic);
                if (found < 0)
                {
                    at += Math.Max(count - BlockInfo.HeaderLength, 1);
                    continue;
                }
                at += found;
                at += TryBlock(at, length) ?? 1;
            }
        }

        // The whole length of a sound block at this place, or null.
        private long? TryBlock(long at, long fileLength)
        {
            const int MostChunks = 1 << 20;
            var head = new byte[BlockInfo.HeaderLength];
            if (file.Read(head, at) < head.Length)
                return null;
            var info = new BlockInfo(
                at, BinaryPrimitives.ReadInt32LittleEndian(head.AsSpan(16)), BinaryPrimitives.ReadInt32LittleEndian(head.AsSpan(12)), BinaryPrimitives.ReadInt32LittleEndian(head.AsSpan(8)),
                (BlockKind)head[4], (Codec)head[5], BinaryPrimitives.ReadUInt64LittleEndian(head.AsSpan(24)));
            if (info.ChunkCount is <= 0 or > MostChunks || info.PlainLength is < 0 or > BlockInfo.LongestPlain || info.StoredLength is < 0 or > BlockInfo.LongestPlain
                || at > fileLength - info.WholeLength || info.Kind is < BlockKind.Content or > BlockKind.Record)
                return null;
            var whole = new byte[BlockInfo.HeaderLength + 4 * info.ChunkCount];
            if (file.Read(whole, at) < whole.Length || BlockInfo.HeaderChecksum(whole) != BinaryPrimitives.ReadUInt64LittleEndian(head.AsSpan(32)) || Expand(info) is not { } plain)
                return null;
            var offset = 0;
            for (var i = 0; i < info.ChunkCount; i++)
            {
                var size = BinaryPrimitives.ReadInt32LittleEndian(whole.AsSpan(BlockInfo.HeaderLength + 4 * i));
                if (size < 0 || size > plain.Length - offset)
                    return null;
                var bytes = plain.AsSpan(offset, size);
                _chunks[Blake3.Hash(bytes)] = new ChunkPlace(info, offset, size);
                if (info.Kind == BlockKind.Record)
                    _records.Add(bytes.ToArray());
                offset += size;
            }
            Blocks++;
            return info.WholeLength;
        }

        private byte[]? Expand(BlockInfo block)
        {
            var stored = new byte[block.StoredLength];
            if (file.Read(stored, block.PayloadOffset) < stored.Length || XxHash3.HashToUInt64(stored) != block.Checksum)
                return null;
            if (block.Codec == Codec.Stored)
                return stored.Length == block.PlainLength ? stored : null;
            var plain = new byte[block.PlainLength];
            var zstd = ZstdPool.Rent();
            var good = block.Codec == Codec.Zstd && zstd.TryExpand(stored, plain);
            ZstdPool.Return(zstd);
            return good ? plain : null;
        }

        public ReadOnlyMemory<byte> Read(ChunkId id)
        {
            if (!_chunks.TryGetValue(id, out var place))
                return bases?.Holder(id, out var elsewhere) is { } holder ? holder.Read(id, elsewhere) : throw VembarException.Damaged($"'{path}' lacks content that it names ({id})");
            if (_last.Offset != place.Block.Offset)
                _last = (place.Block.Offset, Expand(place.Block) ?? throw VembarException.Damaged($"'{path}' is damaged at byte {place.Block.Offset}"));
            var bytes = _last.Plain.AsMemory(place.Offset, place.Length);
            return Blake3.Hash(bytes.Span) == id ? bytes : throw VembarException.Damaged($"'{path}' is damaged at byte {place.Block.Offset}");
        }

        // The images that the last readable catalogue lists; without one, the last record of every number.
        public List<ImageRecord> Records()
        {
            var images = new Dictionary<int, ImageRecord>();
            foreach (var bytes in _records)
            {
                if (TryParse(bytes, RecordJson.Default.ImageRecord) is { Number: > 0 } record)
                    images[record.Number] = record;
            }
            foreach (var bytes in _records.AsEnumerable().Reverse())
            {
                if (TryParse(bytes, RecordJson.Default.Catalogue) is not { Images: { } listed } || !bytes.AsSpan().StartsWith("{\"nextNumber\""u8))
                    continue;
                var found = listed.Select(e => _chunks.ContainsKey(e.Record) ? TryParse(Read(e.Record).ToArray(), RecordJson.Default.ImageRecord) : null).OfType<ImageRecord>().ToList();
                if (found.Count > 0)
                    return [.. found.OrderBy(i => i.Number)];
            }
            return [.. images.Values.OrderBy(i => i.Number)];
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
}
