using System.Collections.Concurrent;
using System.Diagnostics;
using Vembar.Common;
using Vembar.Common.Tasks;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Store.Format;
using Vembar.Store.Hashing;
using Vembar.Store.Index;
using Vembar.Store.Places;
using Vembar.Store.Reading;

namespace Vembar.Operations.Verify;

/// <summary>Checks every byte of an archive.</summary>
internal static class ArchiveCheck
{
    /// <summary>A chunk that is sound, from the archive or another one. The archive itself comes first: where only a block's head is
    /// damaged, its content is good.</summary>
    /// <returns>Null when none has it.</returns>
    public static (BlockKind Kind, ReadOnlyMemory<byte> Bytes)? Good(ArchiveReader archive, IReadOnlyList<ArchiveReader> others,
        ChunkId id)
    {
        foreach (var source in others.Prepend(archive))
        {
            try
            {
                if (source.FindOwner(id, out var place) is not { } holder)
                    continue;
                return (place.Block.Kind, place.Block.Kind == BlockKind.Record ? holder.ReadRecord(id) : holder.Read(id, place));
            }
            catch (VembarException)
            {
                // The next one may have it.
            }
        }
        return null;
    }

    // Reads folders from other archives where they are damaged or missing, and notes which, so that what is below them is looked at too.
    private sealed class HealingSource(ArchiveReader archive, IReadOnlyList<ArchiveReader> others, ConcurrentDictionary<ChunkId, byte> bad)
        : IChunkSource
    {
        public bool Contains(ChunkId id) => archive.Contains(id) || others.Any(o => o.Contains(id));

        public ReadOnlyMemory<byte> Read(ChunkId id)
        {
            try
            {
                return archive.Read(id);
            }
            catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged && Good(archive, others, id) is { } good)
            {
                bad[id] = 0;
                return good.Bytes;
            }
        }
    }

    /// <summary>Checks every block, every chunk, the places between them, and every image's tree.</summary>
    /// <param name="archive">The archive, opened to be mended.</param>
    /// <param name="others">Archives to read folders from where they are damaged in this one.</param>
    /// <param name="bad">Chunks that are damaged; added to.</param>
    /// <param name="workers">How many blocks are read at once.</param>
    /// <param name="progress">Told how far it is.</param>
    /// <param name="cancellation">Ends it.</param>
    public static async Task<VerifyResult> RunAsync(
        ArchiveReader archive, IReadOnlyList<ArchiveReader> others, ConcurrentDictionary<ChunkId, byte> bad, int workers,
        IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var clock = Stopwatch.StartNew();
        var damage = new List<Damage>();
        // Without its bases nothing could be said of its images.
        _ = archive.Bases;
        CheckState(archive, damage);
        var blocks = 0L;
        var done = 0L;
        foreach (var segment in archive.Segments)
        {
            var chunks = ChunksOf(segment, damage);
            var firstCopies = FirstCopies(segment, chunks);
            var found = new ConcurrentBag<Damage>();
            await WorkStealingRunner.EachAsync(segment.BlockCount, workers, number =>
            {
                var block = segment.Block(number);
                var copyOf = firstCopies?.GetValueOrDefault(number, -1) ?? -1;
                if (CheckBlock(archive, block, chunks.Of(copyOf < 0 ? number : copyOf), copyOf < 0 ? block : segment.Block(copyOf),
                    bad) is { } problem)
                    found.Add(new Damage(0, "", problem));
                Interlocked.Increment(ref blocks);
                progress.Report(new OperationProgress("reading", Interlocked.Add(ref done, block.WholeLength), archive.CommittedLength,
                    true, ""));
            }, cancellation).ConfigureAwait(false);
            damage.AddRange(found.OrderBy(d => d.Problem, StringComparer.Ordinal));
        }
        if (!archive.IsIndexRebuilt)
            damage.AddRange(CheckCover(archive, null));
        // Where only blocks that no image uses are touched, the finding stands by itself; else the files are named instead.
        var sound = new HashSet<ChunkId>();
        foreach (var image in archive.Images)
        {
            cancellation.ThrowIfCancellationRequested();
            progress.Report(new OperationProgress("walking images", image.Number, archive.Images.Count, false, image.Name));
            CheckTree(archive, others.Count == 0 ? archive : new HealingSource(archive, others, bad), image, bad, sound, damage);
        }
        return new VerifyResult(
            archive.Path, blocks, archive.FileLength, damage, archive.IsNewerStateDamaged ? 0 : archive.UncommittedTail, [],
            clock.Elapsed.TotalSeconds, [.. archive.Bases.Select(b => b.Path)],
            archive.Images.Count + archive.LostImages.Count, archive.IsRecordSingle);
    }

    /// <summary>Checks what a state adds to the one before: its blocks and their chunks, the places between, and the images that are new,
    /// down to the folders that the one before has too.</summary>
    /// <param name="archive">The archive with the new state.</param>
    /// <param name="before">The archive as it was; null where there was none.</param>
    /// <param name="workers">How many blocks are read at once.</param>
    /// <param name="cancellation">Ends it.</param>
    public static async Task<IReadOnlyList<Damage>> AddedAsync(ArchiveReader archive, ArchiveReader? before, int workers,
        CancellationToken cancellation)
    {
        var damage = new List<Damage>();
        var bad = new ConcurrentDictionary<ChunkId, byte>();
        var from = before?.CommittedLength ?? 0;
        CheckState(archive, damage);
        var known = before is null ? [] : before.Segments.SelectMany(s => Enumerable.Range(0, s.BlockCount).Select(s.Block)).ToHashSet();
        foreach (var segment in archive.Segments.Where(s => s.Extent.Offset >= from))
        {
            var chunks = ChunksOf(segment, damage);
            var firstCopies = FirstCopies(segment, chunks);
            var found = new ConcurrentBag<Damage>();
            await WorkStealingRunner.EachAsync(segment.BlockCount, workers, number =>
            {
                // A merged index lists the blocks of earlier states too; those were looked at when they came.
                var block = segment.Block(number);
                if (block.Offset < from)
                {
                    if (!known.Contains(block) || chunks.Of(number).Any(c => !before!.Contains(c.Id)))
                        found.Add(new Damage(0, "", $"the index names a block at byte {block.Offset} that was not there before"));
                    return;
                }
                var copyOf = firstCopies?.GetValueOrDefault(number, -1) ?? -1;
                if (CheckBlock(archive, block, chunks.Of(copyOf < 0 ? number : copyOf), copyOf < 0 ? block : segment.Block(copyOf),
                    bad) is { } problem)
                    found.Add(new Damage(0, "", problem));
            }, cancellation).ConfigureAwait(false);
            damage.AddRange(found.OrderBy(d => d.Problem, StringComparer.Ordinal));
        }
        if (damage.Count > 0)
            return damage;
        damage.AddRange(CheckCover(archive, null));
        var sound = new HashSet<ChunkId>();
        var roots = before is null ? [] : before.Images.Select(i => i.Root).ToHashSet();
        foreach (var image in archive.Images.Where(i => !roots.Contains(i.Root)))
        {
            cancellation.ThrowIfCancellationRequested();
            CheckTree(archive, archive, image, bad, sound, damage, before);
        }
        return damage;
    }

    private static void CheckState(ArchiveReader archive, List<Damage> damage)
    {
        damage.AddRange(archive.Problems.Select(p => new Damage(0, "", p)));
        damage.AddRange(archive.LostImages.Select(i => new Damage(i.Number, "", i.Problem)));
        if (archive.IsNewerStateDamaged)
        {
            damage.Add(new Damage(0, "", $"a newer state of {archive.UncommittedTail} bytes behind state {archive.Sequence} is damaged")
            {
                Advice = Advice.Of("newer-state-stays"),
            });
        }
        var (first, second) = archive.RecordCopies;
        if (first != RecordCopy.Whole)
            damage.Add(new Damage(0, "", $"the first copy of the record of the last state, at byte {archive.Commit.First}, is damaged; "
                + $"the second one is whole, and the next change writes the first again"));
        if (second == RecordCopy.Damaged)
            damage.Add(new Damage(0, "", $"the second copy of the record of the last state, at byte {archive.Commit.Second}, is "
                + $"damaged; the first one is whole, and the next change writes the second again"));
    }

    private static BlockChunks ChunksOf(IndexSegment segment, List<Damage> damage) =>
        new(segment, block => damage.Add(new Damage(0, "", $"the index names block {block}, which does not exist")));

    // No index names the chunks in the second copies of record blocks: they are those of the first, which is the same to the byte.
    private static Dictionary<int, int>? FirstCopies(IndexSegment segment, BlockChunks chunks)
    {
        Dictionary<int, int>? copies = null;
        Dictionary<BlockInfo, int>? firsts = null;
        for (var i = 0; i < segment.BlockCount; i++)
        {
            var block = segment.Block(i);
            if (block.Kind != BlockKind.Record)
                continue;
            firsts ??= [];
            if (chunks.CountOf(i) == 0 && firsts.TryGetValue(block with { Offset = 0 }, out var first))
                (copies ??= [])[i] = first;
            else
                firsts[block with { Offset = 0 }] = i;
        }
        return copies;
    }

    private static string? CheckBlock(ArchiveReader archive, BlockInfo block, List<(ChunkId Id, int Offset, int Length)> chunks,
        BlockInfo indexed, ConcurrentDictionary<ChunkId, byte> bad)
    {
        // Content that was stored again elsewhere is not looked for here any more, so damage to it here harms nobody.
        var live = chunks.Where(c => archive.TryFind(c.Id, out var place) && place.Block.Offset == indexed.Offset).ToList();
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
            if ((isWhole && (archive.File.Read(head, block.Offset) < head.Length || !head.AsSpan().SequenceEqual(expected)))
                || (!isWhole && !HeadIsSound(archive, block, head)))
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
        archive.File.Read(head, block.Offset) == head.Length
        && BlockInfo.HeaderChecksum(head) == System.Buffers.Binary.BinaryPrimitives.ReadUInt64LittleEndian(head.AsSpan(32));

    /// <summary>Checks that every byte belongs to the header, a block, an index segment or a commit record, or is a zero that fills up to
    /// the next.</summary>
    /// <param name="archive">The archive.</param>
    /// <param name="fillings">Given stretches that fill up and are not zero; null for nobody.</param>
    public static List<Damage> CheckCover(ArchiveReader archive, List<(long Start, long End)>? fillings)
    {
        const int MostFilling = 4096 + 256;
        var known = new SortedDictionary<long, long> { [0] = archive.Header.Length };
        foreach (var segment in archive.Segments)
        {
            known[segment.Extent.Offset] = segment.Extent.Length;
            for (var i = 0; i < segment.BlockCount; i++)
                known[segment.Block(i).Offset] = segment.Block(i).WholeLength;
        }
        var problems = new List<Damage>();
        for (var commit = archive.Commit; ;)
        {
            known[commit.First] = CommitRecord.Length;
            known[commit.Second] = CommitRecord.Length;
            // A merged index leaves the segments of earlier states behind; their records still name them.
            known.TryAdd(commit.Index.Offset, commit.Index.Length);
            if (commit.Previous == 0)
                break;
            var copies = ((long[])[commit.Previous, commit.PreviousFirst]).Distinct()
                .Select(at => (Place: at, Record: CommitRecord.TryRead(archive.File, archive.Header, at))).ToList();
            foreach (var (place, _) in copies.Where(c => c.Record is null))
            {
                problems.Add(new Damage(0, "", $"the record of an earlier state at byte {place} is damaged; the present state is not "
                    + $"touched"));
                known.TryAdd(place, CommitRecord.Length);
            }
            if (copies.Select(c => c.Record).FirstOrDefault(r => r is not null) is not { } previous)
                break;
            if (!IndexSegment.IsWhole(archive.File, previous.Index))
                problems.Add(new Damage(0, "", $"the index of an earlier state at byte {previous.Index.Offset} is damaged"));
            commit = previous;
        }
        var end = 0L;
        foreach (var (start, length) in known)
        {
            if (start > end)
            {
                var gap = new byte[Math.Min(start - end, MostFilling)];
                archive.File.Read(gap, end);
                var isLong = start - end >= MostFilling;
                if (isLong || gap.AsSpan().IndexOfAnyExcept((byte)0) >= 0)
                    problems.Add(new Damage(0, "", isLong ? $"bytes {end} to {start} belong to nothing" : $"bytes {end} to {start}, "
                        + $"which fill up, are not zero"));
                if (!isLong && gap.AsSpan().IndexOfAnyExcept((byte)0) >= 0)
                    fillings?.Add((end, start));
            }
            else if (start < end)
                problems.Add(new Damage(0, "", $"two structures overlap at byte {start}"));
            end = Math.Max(end, start + length);
        }
        return problems;
    }

    // Images share most of their folders: one that was found sound, with all below it, is not looked at again.
    private static void CheckTree(ArchiveReader archive, IChunkSource source, ImageRecord image, ConcurrentDictionary<ChunkId, byte> bad,
        HashSet<ChunkId> sound, List<Damage> damage, ArchiveReader? before = null)
    {
        ImageTree tree;
        try
        {
            tree = new ImageTree(source, image.Root, $"image {image.Number}");
        }
        catch (VembarException problem)
        {
            damage.Add(new Damage(image.Number, "/", problem.Message));
            return;
        }
        void Visit(TreeEntry folder, WindowsPath path)
        {
            if (sound.Contains(folder.Folder) || before?.Contains(folder.Folder) == true)
                return;
            var found = damage.Count;
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
                if (!entry.Security.IsNone && IsBad(entry.Security, null))
                    damage.Add(new Damage(image.Number, path.Child(entry.Name).ToString(), "its security descriptor is damaged"));
            }
            if (damage.Count == found)
                sound.Add(folder.Folder);
        }
        // Also what neither the archive nor a base of it has; another archive may.
        bool IsBad(ChunkId id, long? length)
        {
            if (bad.ContainsKey(id))
                return true;
            if (archive.FindOwner(id, out var place) is not null && (length is null || place.Length == length))
                return false;
            bad[id] = 0;
            return true;
        }
        void Content(FileContent content, WindowsPath folder, string name, string? stream)
        {
            string? wrong = null;
            try
            {
                var bytes = 0L;
                foreach (var part in tree.Parts(content, folder))
                {
                    if (!part.IsHole && IsBad(part.Id, part.Length))
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
            {
                var part = stream is null ? "its content" : $"its stream '{stream}'";
                damage.Add(new Damage(image.Number, folder.Child(name).ToString(),
                    $"{part} {wrong}"));
            }
        }
        Visit(tree.Root, WindowsPath.Root);
    }
}
