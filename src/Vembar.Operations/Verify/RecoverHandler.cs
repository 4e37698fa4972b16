using System.Text.Json;
using Vembar.Common;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Store.Format;
using Vembar.Store.Hashing;
using Vembar.Store.Index;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Vembar.Store.Writing;

namespace Vembar.Operations.Verify;

/// <summary>
/// Makes a new archive of what can be read of a damaged one. It begins with the last state that can be read, and with what is whole of a
/// newer one behind it; without any state it looks for blocks from the first byte to the last, and needs no index and no commit.
/// </summary>
public sealed class RecoverHandler(OperationHost host) : IOperationHandler<RecoverRequest, RecoverResult>
{
    /// <summary>Recovers.</summary>
    /// <exception cref="VembarException">Nothing can be recovered, or the new archive not be written.</exception>
    public async Task<RecoverResult> HandleAsync(RecoverRequest request, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var (place, to) = request;
        var path = place.Path;
        if (Path.Exists(to))
            throw VembarException.Input("target-exists", $"'{to}' is there already", "Name a file that is not there.");
        Checks.CanAddTo(host, to, null, null);
        IByteSource file;
        try
        {
            file = new WholeReading(host.Files).OpenRead(path);
        }
        catch (Exception failure) when (VembarException.From(failure, "open the archive", path) is { } error)
        {
            throw error;
        }
        using (file)
        using (var bases = Bases(place, file, host.Files))
        using (var archive = LastState(place, new WholeReading(host.Files)))
        {
            var scan = new Scan(file, path, bases, archive);
            scan.Run(progress, cancellation);
            var (records, lost) = scan.Images();
            if (records.Count == 0)
            {
                var behind = archive is null ? "" : $" behind state {archive.Sequence}, which can be read";
                throw VembarException.Damaged($"'{path}': {scan.Blocks} sound blocks were "
                    + $"found{behind}, but no image's record "
                    + $"among them",
                    "Take it from another copy.");
            }
            using var writer = await ArchiveWriter.OpenAsync(to, host.WriterOptions(default) with { MayCreate = true }, cancellation)
                .ConfigureAwait(false);
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

    private static ArchiveReader? LastState(ArchiveLocation place, IFileSystem files)
    {
        try
        {
            return ArchiveReader.OpenToMend(place, files);
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged || problem.Code is "not-an-archive" or "newer-format")
        {
            // The header may be what is damaged.
            return null;
        }
    }

    // The header may be what is damaged; then nothing is known of bases.
    private static BaseArchives? Bases(ArchiveLocation place, IByteSource file, IFileSystem files)
    {
        try
        {
            var header = ArchiveHeader.Read(file, place.Path);
            return header.Bases.Count == 0 ? null : new BaseArchives(place, header, files, 0);
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
                        : entry.Content is { Parts: null } content ? entry with
                        {
                            Content = new FileContent(content.Length, content.Hash, tree.Parts(content, own)),
                        } : entry);
                }
                catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged)
                {
                    Lose(own, entry.Kind == EntryKind.Folder ? "the folder and all below it" : "its content");
                }
            }
            return folder with { Folder = FolderWriter.Write(writer, children) };
        }
        try
        {
            var tree = new ImageTree(scan, record.Root, $"image {record.Number}");
            var root = FolderWriter.Write(writer, [Folder(tree, tree.Root, WindowsPath.Root)]);
            return record with { Root = root, Files = files, Folders = folders };
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged)
        {
            Lose(WindowsPath.Root, "the whole image");
            return null;
        }
    }

    // What was found without an index, beside the last state that has one.
    private sealed class Scan(IByteSource file, string path, BaseArchives? bases, ArchiveReader? archive) : IChunkSource
    {
        private readonly Dictionary<ChunkId, ChunkPlace> _chunks = [];
        private readonly List<(ChunkId Id, byte[] Bytes)> _records = [];
        private (long Offset, byte[] Plain) _last = (-1, []);

        public long Blocks { get; private set; }

        public void Run(IProgress<OperationProgress> progress, CancellationToken cancellation)
        {
            var length = file.Length;
            Blocks = archive?.Segments.Sum(s => (long)s.BlockCount) ?? 0;
            BlockScan.Run(file, archive?.CommittedLength ?? 0, length, (block, lengths, plain) =>
            {
                cancellation.ThrowIfCancellationRequested();
                var offset = 0;
                foreach (var size in lengths)
                {
                    var bytes = plain.Slice(offset, size);
                    var id = Blake3.Hash(bytes);
                    _chunks[id] = new ChunkPlace(block, offset, size);
                    if (block.Kind == BlockKind.Record)
                        _records.Add((id, bytes.ToArray()));
                    offset += size;
                }
                Blocks++;
            }, at =>
            {
                cancellation.ThrowIfCancellationRequested();
                progress.Report(new OperationProgress("looking for blocks", at, length, true, ""));
            });
        }

        private byte[]? Expand(BlockInfo block)
        {
            var stored = new byte[block.StoredLength];
            var plain = new byte[block.PlainLength];
            return file.Read(stored, block.PayloadOffset) == stored.Length && block.TryExpand(stored, plain) ? plain : null;
        }

        public bool Contains(ChunkId id) =>
            _chunks.ContainsKey(id) || (archive is not null ? archive.Contains(id) : bases?.FindOwner(id, out _) is not null);

        public ReadOnlyMemory<byte> Read(ChunkId id)
        {
            if (!_chunks.TryGetValue(id, out var place))
            {
                return archive?.Read(id) ?? (bases?.FindOwner(id, out var elsewhere) is { } holder ? holder.Read(id, elsewhere)
                    : throw VembarException.Damaged($"'{path}' lacks content that it names ({id})"));
            }
            if (_last.Offset != place.Block.Offset)
                _last = (place.Block.Offset,
                    Expand(place.Block) ?? throw VembarException.Damaged($"'{path}' is damaged at byte {place.Block.Offset}"));
            var bytes = _last.Plain.AsMemory(place.Offset, place.Length);
            return Blake3.Hash(bytes.Span) == id ? bytes
                : throw VembarException.Damaged($"'{path}' is damaged at byte {place.Block.Offset}");
        }

        // The images that the newest readable catalogue lists; without one, the last record of every number.
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
                return _chunks.ContainsKey(id) ? Read(id).ToArray() : archive?.ReadRecord(id).ToArray();
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
}
