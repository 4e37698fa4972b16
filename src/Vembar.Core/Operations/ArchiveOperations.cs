using System.Buffers;
using System.Collections.Concurrent;
using System.Diagnostics;
using System.IO.Hashing;
using Vembar.Core.Archives;
using Vembar.Core.Content;
using Vembar.Core.Trees;

namespace Vembar.Core.Operations;

/// <summary>Something that is damaged.</summary>
/// <param name="Image">The image's number; 0 when no image is touched.</param>
/// <param name="Path">The path in the image; empty when no file is touched.</param>
/// <param name="Problem">What is wrong.</param>
public sealed record Damage(int Image, string Path, string Problem);

/// <summary>What verifying found.</summary>
/// <param name="Archive">The archive.</param>
/// <param name="Blocks">Blocks read.</param>
/// <param name="Bytes">Bytes of the file that were checked.</param>
/// <param name="Damage">What is damaged.</param>
/// <param name="LeftOver">Bytes behind the last state.</param>
/// <param name="Repaired">What was healed.</param>
/// <param name="Seconds">Time taken.</param>
/// <param name="Bases">The archives that it is based on: that they hold what is needed was checked, not that it is whole there.</param>
public sealed record VerifyResult(
    string Archive, long Blocks, long Bytes, IReadOnlyList<Damage> Damage, long LeftOver, IReadOnlyList<Damage> Repaired, double Seconds, IReadOnlyList<string> Bases)
{
    /// <summary>True when nothing is damaged and nothing left over.</summary>
    public bool Ok => Damage.Count == 0 && LeftOver == 0;
}

/// <summary>Reads all of an archive and checks every byte.</summary>
public static class VerifyOperation
{
    /// <summary>Checks every block, every chunk, the places between them, and every image's tree.</summary>
    /// <exception cref="VembarException">The archive cannot be opened at all.</exception>
    public static VerifyResult Run(ArchivePlace path, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        using var archive = ArchiveReader.Open(path);
        return Check(archive, new ConcurrentDictionary<ChunkId, byte>(), progress, cancellation);
    }

    /// <summary>Checks, and stores good content again for what is damaged, from archives that hold the same.</summary>
    /// <param name="path">The archive.</param>
    /// <param name="from">Archives to take good content from.</param>
    /// <param name="wait">How long to wait for another writer.</param>
    /// <param name="progress">Told how far it is.</param>
    /// <param name="cancellation">Ends it; the archive is as it was.</param>
    /// <exception cref="VembarException">An archive cannot be opened, or this one not be written.</exception>
    public static VerifyResult Repair(ArchivePlace path, IReadOnlyList<string> from, TimeSpan wait, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var others = new List<ArchiveReader>();
        try
        {
            foreach (var other in from)
                others.Add(ArchiveReader.Open(new ArchivePlace(other, path.Bases)));
            var bad = new ConcurrentDictionary<ChunkId, byte>();
            VerifyResult before;
            using (var writer = ArchiveWriter.Open(path, create: false, Effort.Balanced, wait))
            {
                before = Check(writer.Base, bad, progress, cancellation);
                var healed = 0;
                foreach (var id in bad.Keys.Order())
                {
                    // The archive itself comes first: where only a block's head is damaged, its content is good.
                    foreach (var source in others.Prepend(writer.Base))
                    {
                        if (TryRead(source, id) is not { } good)
                            continue;
                        writer.AddAgain(good.Kind, id, good.Bytes.Span);
                        healed++;
                        break;
                    }
                }
                if (healed == 0)
                    return before;
                cancellation.ThrowIfCancellationRequested();
                writer.CommitRepair($"repair, {healed} pieces");
            }
            var after = Run(path, progress, cancellation);
            return after with { Repaired = [.. before.Damage.Except(after.Damage)], Seconds = before.Seconds + after.Seconds };
        }
        finally
        {
            foreach (var other in others)
                other.Dispose();
        }
    }

    private static (BlockKind Kind, ReadOnlyMemory<byte> Bytes)? TryRead(ArchiveReader source, ChunkId id)
    {
        try
        {
            return source.Holder(id, out var place) is { } holder ? (place.Block.Kind, holder.Read(id, place)) : null;
        }
        catch (VembarException)
        {
            return null;
        }
    }

    private static VerifyResult Check(ArchiveReader archive, ConcurrentDictionary<ChunkId, byte> bad, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var clock = Stopwatch.StartNew();
        var damage = new List<Damage>();
        // Without its bases nothing could be said of its images.
        _ = archive.Bases;
        var blocks = 0L;
        var done = 0L;
        foreach (var segment in archive.Segments)
        {
            var chunks = new List<(ChunkId Id, int Offset, int Length)>[segment.BlockCount];
            for (var i = 0; i < segment.ChunkCount; i++)
            {
                var (id, block, offset, length) = segment.Chunk(i);
                if ((uint)block >= (uint)segment.BlockCount)
                    damage.Add(new Damage(0, "", $"the index names block {block}, which does not exist"));
                else
                    (chunks[block] ??= []).Add((id, offset, length));
            }
            var found = new ConcurrentBag<Damage>();
            Crew.Each(segment.BlockCount, number =>
            {
                var block = segment.Block(number);
                if (CheckBlock(archive, block, chunks[number] ?? [], bad) is { } problem)
                    found.Add(new Damage(0, "", problem));
                Interlocked.Increment(ref blocks);
                progress.Report(new OperationProgress("reading", Interlocked.Add(ref done, block.WholeLength), archive.StateEnd, true, ""));
            }, cancellation);
            damage.AddRange(found.OrderBy(d => d.Problem, StringComparer.Ordinal));
        }
        damage.AddRange(CheckCover(archive));
        // Where only blocks that no image uses are touched, the finding stands by itself; else the files are named instead.
        var sound = new HashSet<ChunkId>();
        foreach (var image in archive.Images)
        {
            cancellation.ThrowIfCancellationRequested();
            progress.Report(new OperationProgress("walking images", image.Number, archive.Images.Count, false, image.Name));
            CheckTree(archive, image, bad, sound, damage);
        }
        return new VerifyResult(archive.Path, blocks, archive.FileLength, damage, archive.LeftOver, [], clock.Elapsed.TotalSeconds, [.. archive.Bases.Select(b => b.Path)]);
    }

    private static string? CheckBlock(ArchiveReader archive, BlockInfo block, List<(ChunkId Id, int Offset, int Length)> chunks, ConcurrentDictionary<ChunkId, byte> bad)
    {
        chunks.Sort((a, b) => a.Offset.CompareTo(b.Offset));
        // Content that was stored again elsewhere is not looked for here any more, so damage to it here harms nobody.
        var live = chunks.Where(c => archive.TryFind(c.Id, out var place) && place.Block.Offset == block.Offset).ToList();
        if (live.Count == 0)
            return null;
        void AllBad()
        {
            foreach (var chunk in live)
                bad[chunk.Id] = 0;
        }
        try
        {
            var head = new byte[BlockInfo.HeaderLength + 4 * block.ChunkCount];
            var expected = new byte[head.Length];
            block.EncodeHeader(expected, [.. chunks.Select(c => c.Length)]);
            var isWhole = chunks.Count == block.ChunkCount;
            if ((isWhole && (archive.File.Read(head, block.Offset) < head.Length || !head.AsSpan().SequenceEqual(expected))) || (!isWhole && !HeadIsSound(archive, block, head)))
            {
                AllBad();
                return $"the head of the block at byte {block.Offset} is damaged; its content can still be read through the index";
            }
            var plain = archive.ReadBlock(block);
            var wrong = 0;
            try
            {
                foreach (var (id, offset, length) in live)
                {
                    if (Blake3.Hash(plain.AsSpan(0, block.PlainLength).Slice(offset, length)) == id)
                        continue;
                    bad[id] = 0;
                    wrong++;
                }
            }
            finally
            {
                System.Buffers.ArrayPool<byte>.Shared.Return(plain);
            }
            return wrong > 0 ? $"{wrong} pieces of content in the block at byte {block.Offset} do not match their hashes" : null;
        }
        catch (VembarException problem)
        {
            AllBad();
            return problem.Message;
        }
        catch (ArgumentOutOfRangeException)
        {
            AllBad();
            return $"the index places chunks outside of the block at byte {block.Offset}";
        }
    }

    // A merged index may have forgotten chunks of a block that were stored again; then the head speaks for itself.
    private static bool HeadIsSound(ArchiveReader archive, BlockInfo block, byte[] head) =>
        archive.File.Read(head, block.Offset) == head.Length && BlockInfo.HeaderChecksum(head) == System.Buffers.Binary.BinaryPrimitives.ReadUInt64LittleEndian(head.AsSpan(32));

    // Every byte belongs to the header, a block, an index segment or a commit record, or is a zero that fills up to the next.
    private static IEnumerable<Damage> CheckCover(ArchiveReader archive)
    {
        var known = new SortedDictionary<long, long> { [0] = archive.Header.Length };
        foreach (var segment in archive.Segments)
        {
            known[segment.Extent.Offset] = segment.Extent.Length;
            for (var i = 0; i < segment.BlockCount; i++)
                known[segment.Block(i).Offset] = segment.Block(i).WholeLength;
        }
        var problems = new List<Damage>();
        var buffer = new byte[CommitRecord.Length];
        for (var commit = archive.Commit; ;)
        {
            known[commit.Offset] = CommitRecord.Length;
            // A merged index leaves the segments of earlier states behind; their records still name them.
            known.TryAdd(commit.Index.Offset, commit.Index.Length);
            if (commit.Previous == 0)
                break;
            var previous = archive.File.Read(buffer, commit.Previous) == buffer.Length ? CommitRecord.TryRead(buffer, archive.Header.Id, commit.Previous) : null;
            if (previous is null)
            {
                problems.Add(new Damage(0, "", $"the record of an earlier state at byte {commit.Previous} is damaged; the present state is not touched"));
                known.TryAdd(commit.Previous, CommitRecord.Length);
                break;
            }
            var index = new byte[previous.Index.Length];
            if (archive.File.Read(index, previous.Index.Offset) < index.Length || XxHash3.HashToUInt64(index) != previous.Index.Checksum)
                problems.Add(new Damage(0, "", $"the index of an earlier state at byte {previous.Index.Offset} is damaged"));
            commit = previous;
        }
        var end = 0L;
        foreach (var (start, length) in known)
        {
            if (start > end)
            {
                var gap = new byte[Math.Min(start - end, 1 << 20)];
                archive.File.Read(gap, end);
                if (start - end >= CommitRecord.Alignment || gap.AsSpan().IndexOfAnyExcept((byte)0) >= 0)
                    problems.Add(new Damage(0, "", $"bytes {end} to {start} belong to nothing"));
            }
            else if (start < end)
                problems.Add(new Damage(0, "", $"two structures overlap at byte {start}"));
            end = Math.Max(end, start + length);
        }
        return problems;
    }

    // Images share most of their folders: one that was found sound, with all below it, is not looked at again.
    private static void CheckTree(ArchiveReader archive, ImageRecord image, ConcurrentDictionary<ChunkId, byte> bad, HashSet<ChunkId> sound, List<Damage> damage)
    {
        ImageTree tree;
        try
        {
            tree = new ImageTree(archive, image.Root, $"image {image.Number}");
        }
        catch (VembarException problem)
        {
            damage.Add(new Damage(image.Number, "/", problem.Message));
            return;
        }
        void Visit(TreeEntry folder, WindowsPath path)
        {
            if (sound.Contains(folder.Folder))
                return;
            var before = damage.Count;
            using var entries = tree.Entries(folder, path).GetEnumerator();
            bool Next()
            {
                try
                {
                    return entries.MoveNext();
                }
                catch (VembarException problem)
                {
                    damage.Add(new Damage(image.Number, path.ToString(), $"the folder and all below it cannot be read: {problem.Message}"));
                    return false;
                }
            }
            while (Next())
            {
                var entry = entries.Current;
                if (entry.Kind == EntryKind.Folder)
                    Visit(entry, path.Child(entry.Name));
                else if (entry.Content is not null)
                    Content(entry.Content, path, entry.Name, null);
                foreach (var stream in entry.Streams)
                    Content(stream.Content, path, entry.Name, stream.Name);
                if (!entry.Security.IsNone && (bad.ContainsKey(entry.Security) || !archive.Contains(entry.Security)))
                    damage.Add(new Damage(image.Number, path.Child(entry.Name).ToString(), "its security descriptor is damaged"));
            }
            if (damage.Count == before)
                sound.Add(folder.Folder);
        }
        void Content(FileContent content, WindowsPath folder, string name, string? stream)
        {
            string? wrong = null;
            try
            {
                var bytes = 0L;
                foreach (var part in tree.Parts(content, folder))
                {
                    if (!part.IsHole && (bad.ContainsKey(part.Id) || archive.Holder(part.Id, out var place) is null || place.Length != part.Length))
                        bytes += part.Length;
                }
                if (bytes > 0)
                    wrong = bytes == content.Length ? "is damaged" : $"is damaged ({bytes} of {content.Length} bytes)";
            }
            catch (VembarException)
            {
                wrong = "is damaged";
            }
            if (wrong is not null)
                damage.Add(new Damage(image.Number, folder.Child(name).ToString(), $"{(stream is null ? "its content" : $"its stream '{stream}'")} {wrong}"));
        }
        Visit(tree.Root, WindowsPath.Root);
    }
}

/// <summary>What dropping did.</summary>
/// <param name="Archive">The archive.</param>
/// <param name="Image">The image that went.</param>
/// <param name="Left">How many images are left.</param>
public sealed record DropResult(string Archive, ImageRecord Image, int Left);

/// <summary>Takes an image off an archive's list.</summary>
public static class DropOperation
{
    /// <summary>Takes the image off the list; its content stays in the file.</summary>
    /// <exception cref="VembarException">There is no such image, or the archive cannot be written.</exception>
    public static DropResult Run(ImageReference reference, TimeSpan wait, IFileLayer? layer = null)
    {
        using var writer = ArchiveWriter.Open(reference.Archive, create: false, Effort.Balanced, wait, layer);
        var image = writer.Base.Find(reference.Which);
        writer.CommitDrop(image.Number, $"drop {image.Number} {image.Name}");
        return new DropResult(reference.Archive.Path, image, writer.Base.Images.Count - 1);
    }
}

/// <summary>What copying did.</summary>
/// <param name="Archive">The archive that it was copied into.</param>
/// <param name="Image">The image as recorded there.</param>
/// <param name="Stats">Figures; files and bytes read are those that were not there yet.</param>
/// <param name="WholeBlocks">Blocks that went over as they are.</param>
public sealed record CopyResult(string Archive, ImageRecord Image, StoreStats Stats, long WholeBlocks);

/// <summary>Copies an image into another archive without unpacking it.</summary>
public static class CopyOperation
{
    /// <summary>Copies what the other archive lacks. Blocks of which everything is needed go over as they are.</summary>
    /// <param name="from">The image.</param>
    /// <param name="to">The archive; made when there is none.</param>
    /// <param name="name">The name there; null for the same.</param>
    /// <param name="wait">How long to wait for another writer.</param>
    /// <param name="progress">Told how far it is.</param>
    /// <param name="cancellation">Ends it; the archive is as it was.</param>
    /// <param name="layer">The file system that is written to; null for the real one.</param>
    /// <exception cref="VembarException">Something is in the way; the archive is as it was.</exception>
    public static CopyResult Run(
        ImageReference from, ArchivePlace to, string? name, TimeSpan wait, IProgress<OperationProgress> progress, CancellationToken cancellation, IFileLayer? layer = null)
    {
        var clock = Stopwatch.StartNew();
        var problems = new List<VembarException>();
        using var source = Checks.Collect(problems, () => ArchiveReader.Open(from.Archive));
        var image = source is null ? null : Checks.Collect(problems, () => source.Find(from.Which));
        Checks.Collect(problems, () =>
        {
            if (name is not null)
                Checks.ImageName(name);
            Checks.CanAddTo(to, name ?? image?.Name);
            return "";
        });
        Checks.Throw(problems);
        using var writer = ArchiveWriter.Open(to, create: true, Effort.Balanced, wait, layer);
        Checks.NameIsFree(writer.Base, name ?? image!.Name);

        var tree = new ImageTree(source!, image!.Root, from.ToString());
        var needed = new NeededChunks(source!, writer);
        needed.Want(tree, image.Root);
        var (done, fresh, whole) = needed.Copy(recompress: false, progress, cancellation);
        var now = DateTime.UtcNow;
        var record = image with
        {
            Name = name ?? image.Name,
            Origin = new ImageOrigin { Kind = "image", From = $"{source!.Header.Id:D}#{image.Number}", Program = Checks.ProgramVersion },
            History = [.. image.History, new HistoryEntry { Time = now, Action = "copy", Details = [$"from {Path.GetFullPath(from.Archive.Path)}#{image.Number}"] }],
        };
        record = writer.CommitImage(record, null, $"copy {writer.Base.Catalogue.NextNumber} {record.Name}");
        return new CopyResult(to.Path, record, new StoreStats(image.Files, 0, image.Bytes, done, fresh, writer.BytesStored, clock.Elapsed.TotalSeconds), whole);
    }
}

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
            var holder = source.Holder(id, out var place) ?? throw VembarException.Damaged($"'{source.Path}' lacks content that it names ({id})");
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
    public (long Read, long Fresh, long WholeBlocks) Copy(bool recompress, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var total = _needed.Sum(n => (long)n.Key.Block.StoredLength);
        long done = 0, fresh = 0, whole = 0;
        var ordered = _needed.OrderBy(n => n.Key.Holder == source ? 0 : 1).ThenBy(n => n.Key.Holder.Path, StringComparer.Ordinal).ThenBy(n => n.Key.Block.Offset).ToList();
        bool GoesWhole(int at) => !recompress && ordered[at].Value.Count == ordered[at].Key.Block.ChunkCount;
        // The next whole blocks are read and checked while one is written.
        using var ahead = new ReadAhead(ordered.Count, at => GoesWhole(at) ? ReadWhole(ordered[at].Key.Holder, ordered[at].Key.Block) : null);
        for (var at = 0; at < ordered.Count; at++)
        {
            cancellation.ThrowIfCancellationRequested();
            var ((holder, block), ids) = ordered[at];
            ids.Sort((a, b) => a.Offset.CompareTo(b.Offset));
            fresh += ids.Sum(i => (long)i.Length);
            using var read = ahead.Next();
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
    private sealed class ReadAhead(int count, Func<int, Rented?> read) : IDisposable
    {
        private const int Most = 2;
        private readonly Queue<Task<Rented?>> _reading = new();
        private int _begun;

        public Rented? Next()
        {
            for (; _begun < count && _reading.Count <= Most; _begun++)
            {
                var at = _begun;
                _reading.Enqueue(Task.Run(() => read(at)));
            }
            return _reading.Dequeue().GetAwaiter().GetResult();
        }

        public void Dispose()
        {
            foreach (var reading in _reading)
            {
                ((IAsyncResult)reading).AsyncWaitHandle.WaitOne();
                if (reading.IsCompletedSuccessfully)
                    reading.Result?.Dispose();
            }
        }
    }

    private static Rented ReadWhole(ArchiveReader source, BlockInfo block)
    {
        var rented = new Rented(ArrayPool<byte>.Shared.Rent((int)block.WholeLength), (int)block.WholeLength);
        var bytes = rented.Array.AsSpan(0, rented.Length);
        var headLength = (int)(block.PayloadOffset - block.Offset);
        if (source.File.Read(bytes, block.Offset) == bytes.Length && XxHash3.HashToUInt64(bytes[headLength..]) == block.Checksum
            && BlockInfo.HeaderChecksum(bytes[..headLength]) == System.Buffers.Binary.BinaryPrimitives.ReadUInt64LittleEndian(bytes[32..]))
            return rented;
        rented.Dispose();
        throw VembarException.Damaged($"'{source.Path}' is damaged at byte {block.Offset}, in content of the image that is copied");
    }
}
