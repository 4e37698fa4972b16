using System.Text.Json;
using Vembar.Common;
using Vembar.Native;
using Vembar.Store.Chunking;
using Vembar.Store.Compression;
using Vembar.Store.Format;
using Vembar.Store.Hashing;
using Vembar.Store.Index;
using Vembar.Store.Places;
using Vembar.Store.Reading;

namespace Vembar.Store.Writing;

/// <summary>
/// Adds a state to an archive. It holds the archive's lock; what it writes is nothing until <see cref="Commit"/>, and
/// is taken away again when it is disposed without. One thread at a time.
/// </summary>
public sealed class ArchiveWriter : IChunkSink, IDisposable
{
    private readonly WriterOptions _options;
    private readonly IArchiveFile _file;
    private readonly bool _created;
    private readonly List<BlockInfo> _blocks = [];
    private readonly ChunkTable _added = new();
    private readonly Queue<Task<PackedBlock>> _packing = new();
    private readonly BlockBuilder?[] _open = new BlockBuilder?[4];
    private readonly List<(BlockInfo Info, byte[] Bytes)> _records = [];
    private long _end;
    private bool _begun;
    private bool _committed;
    private bool _broken;

    // Looked for when something is to be stored: marks and names need none.
    private readonly Lazy<KeptBlocks?> _kept;

    private ArchiveWriter(IArchiveFile file, ArchiveReader reader, WriterOptions options, bool created)
    {
        _kept = new Lazy<KeptBlocks?>(() => file is IPublishedFile { Unpublished: { } unpublished } && !reader.Header.IsFirstFormat
            ? new KeptBlocks(unpublished) : null);
        _options = options;
        _file = file;
        _created = created;
        Base = reader;
        _end = reader.CommittedLength;
        LeftOverRemoved = reader.UncommittedTail;
    }

    /// <summary>The state that is added to.</summary>
    public ArchiveReader Base { get; }

    /// <summary>The file that is written.</summary>
    internal IArchiveFile File => _file;

    /// <summary>Bytes of an interrupted run that the next commit removes.</summary>
    public long LeftOverRemoved { get; }

    /// <inheritdoc/>
    public ChunkSizes Sizes => Base.Header.Sizes;

    /// <inheritdoc/>
    public bool IsVeiled => !Base.Header.IsFirstFormat;

    /// <summary>Bytes appended so far.</summary>
    public long BytesStored => _end - Base.CommittedLength;

    /// <summary>Bytes of content, before compression, that an earlier run had made ready and could not publish.</summary>
    public long BytesUsedAgain { get; private set; }

    /// <summary>Opens an archive for adding to it.</summary>
    /// <param name="place">An archive; made when there is none and the options allow it.</param>
    /// <param name="options">How.</param>
    /// <param name="cancellation">Ends the waiting.</param>
    /// <exception cref="VembarException">It cannot be opened, made or locked, or holds a newer state that is damaged.</exception>
    public static Task<ArchiveWriter> OpenAsync(ArchiveLocation place, WriterOptions options, CancellationToken cancellation = default) =>
        OpenAsync(place, options, WriterPurpose.Change, null, cancellation);

    /// <summary>Opens an archive to mend it: its index or its catalogue may be damaged.</summary>
    /// <exception cref="VembarException">It cannot be opened or locked.</exception>
    internal static Task<ArchiveWriter> OpenToMendAsync(ArchiveLocation place, WriterPurpose purpose, Mending mending,
        WriterOptions options, CancellationToken cancellation) => OpenAsync(place, options, purpose, mending, cancellation);

    private static async Task<ArchiveWriter> OpenAsync(ArchiveLocation place, WriterOptions options, WriterPurpose purpose,
        Mending? mending, CancellationToken cancellation)
    {
        var path = place.Path;
        try
        {
            // Whoever waits for another that makes the archive may find that it gave up, and took it away again.
            var began = options.Clock.GetTimestamp();
            while (true)
            {
                if (place.IsRemote)
                    return await OpenRemoteAsync(place, options, purpose, mending, cancellation).ConfigureAwait(false);
                var created = options.MayCreate && !Posix.Exists(path) && ArchiveCreator.TryCreate(path, options);
                try
                {
                    return await OpenLockedAsync(place, options with { Wait = options.Wait - options.Clock.GetElapsedTime(began) },
                        created, purpose, mending, cancellation).ConfigureAwait(false);
                }
                catch (NativeException failure) when (failure.Errno == Errno.NotFound && options.MayCreate && !Posix.Exists(path)
                    && new FileInfo(path).LinkTarget is null
                    && Posix.IsFolder(Path.GetDirectoryName(Path.GetFullPath(path))!))
                {
                    // Made anew.
                }
            }
        }
        catch (Exception failure) when (failure is not VembarException
            && VembarException.From(failure, "write the archive", path) is { } error)
        {
            if (error.Code != "not-found")
                throw error;
            throw options.MayCreate
                ? VembarException.Input("no-such-folder", $"there is no folder for the archive '{path}'", "Check the path.")
                : VembarException.Input("no-such-archive", $"there is no archive '{path}'",
                    Advice.Of("no-such-archive", ("path", path)));
        }
    }

    private static async Task<ArchiveWriter> OpenLockedAsync(ArchiveLocation place, WriterOptions options, bool created,
        WriterPurpose purpose, Mending? mending, CancellationToken cancellation)
    {
        const int Pause = 100;
        var path = place.Path;
        var began = options.Clock.GetTimestamp();
        while (true)
        {
#pragma warning disable CA2000 // handed on
            if (TryOpenLocked(place, options, created, purpose, mending) is { } writer)
                return writer;
#pragma warning restore CA2000
            if (options.Clock.GetElapsedTime(began) >= options.Wait)
                throw VembarException.Environment("archive-locked", $"'{path}' is being written by another process",
                    Advice.Of("archive-locked"));
            await Task.Delay(TimeSpan.FromMilliseconds(Pause), options.Clock, cancellation).ConfigureAwait(false);
        }
    }

    // Nobody is kept from writing there; who comes second is told.
    private static Task<ArchiveWriter> OpenRemoteAsync(ArchiveLocation place, WriterOptions options, WriterPurpose purpose,
        Mending? mending, CancellationToken cancellation) => Task.Run(() =>
    {
        var created = options.MayCreate && !options.Files.Exists(place.Path);
        var file = created ? options.Files.CreateNew(place.Path) : options.Files.OpenWrite(place.Path);
        try
        {
            if (created)
                ArchiveCreator.WriteEmpty(file, new ArchiveHeader(Guid.NewGuid(), ChunkSizes.Standard, options.BasedOn), options);
            var writer = Locked(file, place, options, created, purpose, mending);
            if (writer.Base.UncommittedTail == 0)
                return writer;
            throw VembarException.Damaged($"'{place.Path}' holds {writer.Base.UncommittedTail} bytes that belong to no state, so "
                + $"nothing is "
                + "added to it", Advice.Of("copy-again"));
        }
        catch
        {
            file.Dispose();
            throw;
        }
    }, cancellation);

    // Null when another process has the lock, or the file was replaced meanwhile.
    private static ArchiveWriter? TryOpenLocked(ArchiveLocation place, WriterOptions options, bool created, WriterPurpose purpose,
        Mending? mending)
    {
        var path = place.Path;
        if (Posix.IsFolder(path))
            throw VembarException.Input("not-an-archive", $"'{path}' is a folder, not an archive",
                Advice.Of("not-an-archive", ("path", path)));
        var file = options.Files.OpenWrite(path);
        try
        {
            if (file.TryLock() && file.IsStillAt(path))
                return Locked(file, place, options, created, purpose, mending);
        }
        catch
        {
            file.Dispose();
            throw;
        }
        file.Dispose();
        return null;
    }

    private static ArchiveWriter Locked(IArchiveFile file, ArchiveLocation place, WriterOptions options, bool created,
        WriterPurpose purpose, Mending? mending)
    {
        var reader = ArchiveReader.Open(file, place, options.Files, mending: mending, isWriter: true);
        if (reader.IsNewerStateDamaged && purpose is not (WriterPurpose.Mend or WriterPurpose.GiveUpTail))
        {
            throw VembarException.Damaged($"'{place.Path}' holds a newer state behind state {reader.Sequence} that is damaged; a change "
                + $"would lose it",
                Advice.Of("newer-state-damaged"));
        }
        return new ArchiveWriter(file, reader, options, created);
    }

    /// <summary>Whether a chunk is stored or about to be.</summary>
    public bool Contains(ChunkId id) => _added.Contains(id) || Base.Contains(id);

    /// <inheritdoc/>
    public bool TryClaim(ChunkId id)
    {
        if (Base.Contains(id) || !_added.TryAdd(id))
            return false;
        if (_kept.Value?.Find(id) is not var (info, bytes, chunks))
            return true;
        AppendWhole(info, bytes, chunks);
        if (info.Kind == BlockKind.Content)
            BytesUsedAgain += info.PlainLength;
        return false;
    }

    /// <inheritdoc/>
    public ChunkId Add(BlockKind kind, ReadOnlySpan<byte> bytes)
    {
        if (bytes.Length > ChunkLimits.Longest)
            throw VembarException.Input("too-large",
                $"a file or folder needs {bytes.Length >> 20} MiB to be described, which is more than {ChunkLimits.Longest >> 20} MiB",
                Advice.Of("too-large"));
        var id = Blake3.Hash(bytes);
        // Records are never taken from a base: which images there are can be told without it.
        if (kind == BlockKind.Record ? Base.TryFind(id, out _) || !_added.TryAdd(id) : !TryClaim(id))
            return id;
        ref var builder = ref _open[(int)kind];
        if (builder is not null && builder.IsFullFor(bytes.Length))
            Flush(kind);
#pragma warning disable CA2000 // kept until it is packed
        builder ??= new BlockBuilder(kind);
#pragma warning restore CA2000
        builder.Add(id, bytes);
        return id;
    }

    /// <summary>Stores a chunk once more although it is stored, because what is stored is damaged; the new place counts from then
    /// on.</summary>
    internal void AddAgain(BlockKind kind, ChunkId id, ReadOnlySpan<byte> bytes)
    {
        if (!_added.TryAdd(id))
            return;
        ref var builder = ref _open[(int)kind];
        if (builder is not null && builder.IsFullFor(bytes.Length))
            Flush(kind);
#pragma warning disable CA2000 // kept until it is packed
        builder ??= new BlockBuilder(kind);
#pragma warning restore CA2000
        builder.Add(id, bytes);
    }

    private void Flush(BlockKind kind)
    {
        ref var builder = ref _open[(int)kind];
        if (builder is null)
            return;
        // Compressed on any core, appended in order.
        var full = builder;
        builder = null;
        _packing.Enqueue(Task.Run(() =>
        {
            using (full)
            {
                var zstd = ZstdPool.Rent();
                var block = full.Pack(_options.Effort, zstd, IsVeiled);
                ZstdPool.Return(zstd);
                return block;
            }
        }));
        while (_packing.Count > Environment.ProcessorCount)
            AppendNext();
    }

    private void AppendNext()
    {
        using var block = _packing.Dequeue().GetAwaiter().GetResult();
        Append(block);
    }

    /// <summary>Packs what is still open, and appends what is still being packed.</summary>
    internal void Settle()
    {
        for (var kind = BlockKind.Content; kind <= BlockKind.Record; kind++)
            Flush(kind);
        while (_packing.Count > 0)
            AppendNext();
    }

    /// <inheritdoc/>
    public void Append(PackedBlock block)
    {
        var info = block.Info with { Offset = _end };
        Write(block.Bytes);
        if (info.Kind == BlockKind.Record && !Base.Header.IsFirstFormat)
            _records.Add((info, block.Bytes.ToArray()));
        var number = _blocks.Count;
        _blocks.Add(info);
        var offset = 0;
        for (var i = 0; i < block.Ids.Count; i++)
        {
            _added.Set(block.Ids[i], number, offset, block.Lengths[i]);
            offset += block.Lengths[i];
        }
    }

    /// <summary>Appends a block of another archive as it stands in its file.</summary>
    /// <param name="info">The block in the other archive.</param>
    /// <param name="whole">Its bytes, header included, already checked.</param>
    /// <param name="chunks">Its chunks in their order.</param>
    internal void AppendWhole(BlockInfo info, ReadOnlySpan<byte> whole, IReadOnlyList<(ChunkId Id, int Length)> chunks)
    {
        Write(whole);
        var number = _blocks.Count;
        _blocks.Add(info with { Offset = _end - whole.Length });
        var offset = 0;
        foreach (var (id, length) in chunks)
        {
            if (!Base.TryFind(id, out _))
                _added.Set(id, number, offset, length);
            offset += length;
        }
    }

    private void Write(ReadOnlySpan<byte> bytes)
    {
        try
        {
            Begin();
            _file.Write(bytes, _end);
            _end += bytes.Length;
        }
        catch (Exception failure) when (VembarException.From(failure, "write the archive", Base.Path) is { } error)
        {
            _broken = true;
            throw error;
        }
    }

    // Before the first byte is written: what an interrupted run left behind goes, and the last state's record has both its copies.
    private void Begin()
    {
        if (_begun)
            return;
        EnsureInPlace();
        _begun = true;
        if (_file.Length > Base.CommittedLength)
        {
            // Durable, so that nothing of it can come back between what is written now.
            _file.Truncate(Base.CommittedLength);
            _file.Sync();
        }
        MendRecord();
    }

    private void MendRecord()
    {
        // What is published stays as it is.
        if (_file.IsRemote)
            return;
        var (first, second) = Base.RecordCopies;
        foreach (var (copy, place) in ((RecordCopy, long)[])[(first, Base.Commit.First), (second, Base.Commit.Second)])
        {
            if (copy == RecordCopy.Whole)
                continue;
            _file.Write(Base.Commit.Encode(place), place);
            _file.Sync();
        }
    }

    /// <summary>Makes sure that the archive's name still names the file that is written.</summary>
    /// <exception cref="VembarException">It was replaced or removed; whatever is there now is not touched.</exception>
    internal void EnsureInPlace()
    {
        if (_file.IsStillAt(Base.Path))
            return;
        _broken = true;
        if (_file.IsRemote)
            throw VembarException.Environment("place-changed",
                $"'{Base.Path}' was changed by somebody else meanwhile; their change stands, yours was not made",
                "Run it again: what was prepared is used again.");
        throw VembarException.Environment("archive-replaced",
            $"'{Base.Path}' was removed or replaced by another file while it was being written",
            "What is there now was not touched. See what it is, and run this again.");
    }

    /// <summary>Makes a new state without an image; its content stays until the archive is rewritten.</summary>
    public void CommitDrop(int number, string change) =>
        Commit(Base.Catalogue with
        {
            Change = change,
            Images = [.. Base.Catalogue.Images.Where(i => i.Number != number)],
            Channels = Base.Catalogue.Channels?.Where(c => c.Image != number).ToList() is { Count: > 0 } left ? left : null,
        });

    /// <summary>Makes a new state that lists the same images; what was stored again counts from it on.</summary>
    internal void CommitRepair(string change) => Commit(Base.Catalogue with { Change = change });

    /// <summary>Makes a new state that lists what an earlier one did; numbers given since are not given again.</summary>
    internal void CommitRewind(Catalogue earlier, string change) =>
        CommitWhole(earlier with { Change = change, NextNumber = Math.Max(earlier.NextNumber, Base.Catalogue.NextNumber) });


    /// <summary>Makes a new state that lists all images of another archive under their numbers, with their records as they are.</summary>
    internal void CommitAll(ArchiveReader from, string change) => CommitWhole(from.Catalogue with
    {
        Change = change,
        Images = [.. from.Catalogue.Images.Select(i => i with { Record = Add(BlockKind.Record, from.ReadRecord(i.Record).Span) })],
    });

    /// <summary>Makes an archive with the id of another one under a name of its own, to take its place later.</summary>
    /// <exception cref="VembarException">It cannot be made.</exception>
    internal static ArchiveWriter CreateFor(ArchiveReader other, string path, WriterOptions options)
    {
        try
        {
            using (var file = options.Files.CreateNew(path))
                ArchiveCreator.WriteEmpty(file, new ArchiveHeader(other.Header.Id, other.Header.Sizes, other.Header.Bases), options);
            return TryOpenLocked(new ArchiveLocation(path, other.Place.Bases), options, created: true, WriterPurpose.Change, null)
                ?? throw VembarException.Environment("archive-locked", $"'{path}' is being written by another process",
                Advice.Of("archive-locked"));
        }
        catch (Exception failure) when (failure is not VembarException && VembarException.From(failure, "write", path) is { } error)
        {
            throw error;
        }
    }

    /// <summary>What the index of the next state will take, in bytes, once all is settled.</summary>
    internal long IndexLength => IndexEncoder.LengthOf(_blocks.Count, _added.Count);

    /// <summary>Makes a new state with a catalogue that changes the present one.</summary>
    internal void Commit(Catalogue catalogue) =>
        CommitWhole(Base.Header.IsFirstFormat || Base.IsCatalogueLost ? catalogue
        : catalogue.AsChangeOf(Base.Catalogue, Base.Commit.Catalogue));

    /// <summary>Makes a new state with a catalogue that stands alone.</summary>
    internal void CommitWhole(Catalogue catalogue)
    {
        if (_broken || _committed)
            throw new InvalidOperationException("this writer has ended");
        var id = Add(BlockKind.Record, JsonSerializer.SerializeToUtf8Bytes(catalogue with
        {
            Changes = 0,
            By = _options.By.Length > 0 ? _options.By : null,
        }, RecordJson.Default.Catalogue));
        Settle();
        try
        {
            Begin();
            for (var i = 0; i < _added.Count; i++)
            {
                if (_added[i].Block < 0)
                    throw new InvalidOperationException("a chunk was claimed and never stored");
            }
            var (blocks, chunks, earlier) = IndexMerger.Merge(Base, _blocks, _added);
            var state = new StateWriter(_file, Base.Header, _end, _options.Clock);
            var record = state.Prepare(blocks, chunks, earlier, _records, id, Base.Commit);
            EnsureInPlace();
            state.Conclude(record);
            if (_file is IPublishedFile published)
                published.Publish(StateOf(record));
            _end = record.End;
            _committed = true;
        }
        catch (Exception failure) when (failure is not VembarException
            && VembarException.From(failure, "write the archive", Base.Path) is { } error)
        {
            _broken = true;
            throw error;
        }
        catch (VembarException)
        {
            _broken = true;
            throw;
        }
    }

    private PublishedState StateOf(CommitRecord record)
    {
        using var written = ArchiveReader.Open(new SharedByteSource(_file), Base.Place, _options.Files);
        return Describe(written, record, _options);
    }

    private static PublishedState Describe(ArchiveReader archive, CommitRecord record, WriterOptions options)
    {
        const int MarkLength = 12;
        return new PublishedState(archive.Header.Id, record.Sequence, record.End, record.Catalogue.ToString()[..MarkLength], record.Time,
            options.Images(archive));
    }

    /// <summary>Makes another file, in the local file system, the whole of what this place holds.</summary>
    /// <param name="path">The file: an archive with the same id.</param>
    /// <exception cref="VembarException">It cannot be published; the place holds what it held.</exception>
    internal void ReplaceBy(string path)
    {
        EnsureInPlace();
        using var source = LocalFileSystem.Instance.OpenRead(path);
        using var archive = ArchiveReader.Open(new SharedByteSource(source), new ArchiveLocation(path, Base.Place.Bases), _options.Files);
        ((IPublishedFile)_file).Replace(source, Describe(archive, archive.Commit, _options));
        _committed = true;
    }

    /// <summary>Makes nothing new, but gives up what is behind the last valid state and mends that state's record.</summary>
    /// <exception cref="VembarException">It cannot be written.</exception>
    internal void GiveUpTail()
    {
        try
        {
            Begin();
            _committed = true;
        }
        catch (Exception failure) when (VembarException.From(failure, "write the archive", Base.Path) is { } error)
        {
            _broken = true;
            throw error;
        }
    }

    /// <summary>Ends the writing. Without a commit before it the file is as it was.</summary>
    public void Dispose()
    {
        foreach (var builder in _open)
            builder?.Dispose();
        while (_packing.TryDequeue(out var packing))
        {
            ((Task)packing).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing).GetAwaiter().GetResult();
            if (packing.IsCompletedSuccessfully)
                packing.Result.Dispose();
        }
        try
        {
            if (_committed || _file.IsRemote)
                return;
            if (_created && Base.Catalogue.Images.Count == 0)
            {
                // Under its name there may be somebody else's by now.
                if (_file.IsStillAt(Base.Path))
                    _options.Files.Delete(Base.Path);
            }
            else if (_begun)
                _file.Truncate(Base.CommittedLength);
        }
        catch (IOException)
        {
            // The next writer removes what is left over.
        }
        finally
        {
            Base.Dispose();
        }
    }
}
