using System.Globalization;
using System.Security.Cryptography;
using System.Text.Json;
using Vembar.Common;
using Vembar.Native;

namespace Vembar.Store.Places.Remote;

/// <summary>
/// An archive in a registry: its slices, and behind them what is written, which lies in a local file until it is published. docs/places.md.
/// </summary>
internal sealed class OciArchiveFile : IArchiveFile, IPublishedFile
{
    // A slice that breaks off or is lost costs no more than this.
    private const long LongestSlice = 64L << 20;
    private const int HashPart = 1 << 20;

    private readonly OciRepository _repository;
    private readonly PlaceOptions _options;
    private readonly OciManifest? _manifest;
    private readonly string? _digest;
    private readonly OciSlices _slices;
    private Spool? _spool;
    private long _end;
    private bool _published;
    private readonly Lazy<IByteSource?> _unpublished;

    private OciArchiveFile(OciRepository repository, PlaceOptions options, OciManifest? manifest, string? digest)
    {
        _repository = repository;
        _options = options;
        _manifest = manifest;
        _digest = digest;
        _slices = new OciSlices(repository, manifest?.Layers ?? []);
        _end = _slices.Length;
        _unpublished = new Lazy<IByteSource?>(() => Spool.Kept(repository, options));
    }

    /// <summary>Opens what is there; null when there is nothing.</summary>
    /// <exception cref="VembarException">It cannot be read, or is no archive.</exception>
    public static OciArchiveFile? Open(OciRepository repository, PlaceOptions options)
    {
        if (Blocking.Wait(repository.ReadManifestAsync(CancellationToken.None)) is not var (manifest, digest))
            return null;
        return new OciArchiveFile(repository, options, manifest, digest);
    }

    /// <summary>Begins an archive where there is none; nobody sees it before it is published.</summary>
    public static OciArchiveFile Create(OciRepository repository, PlaceOptions options) =>
        new(repository, options, null, null);

    /// <inheritdoc/>
    public long Length => _end;

    /// <inheritdoc/>
    public bool IsRemote => true;

    /// <inheritdoc/>
    public IByteSource? Unpublished => _unpublished.Value;

    /// <inheritdoc/>
    public int Read(Span<byte> to, long offset) => offset >= _slices.Length ? ReadSpool(to, offset) : Blocking.Read(this, to, offset);

    /// <inheritdoc/>
    public async ValueTask<int> ReadAsync(Memory<byte> to, long offset, CancellationToken cancellation = default)
    {
        var done = offset < _slices.Length ? await _slices.ReadAsync(to, offset, cancellation).ConfigureAwait(false) : 0;
        return done < to.Length ? done + ReadSpool(to.Span[done..], offset + done) : done;
    }

    private int ReadSpool(Span<byte> to, long offset) => _spool is null || offset >= _end ? 0
        : _spool.Read(to[..(int)Math.Min(to.Length, _end - offset)], offset - _slices.Length);

    /// <inheritdoc/>
    public ValueTask ReadManyAsync(IReadOnlyList<ByteRange> ranges, CancellationToken cancellation = default) =>
        RangeJoiner.ReadAsync(this, ranges, null, cancellation);

    /// <inheritdoc/>
    public void Write(ReadOnlySpan<byte> bytes, long offset)
    {
        if (offset < _slices.Length)
            throw VembarException.Input("place-keeps",
                $"'{_repository.Reference.Text}' is not healed in place: what is published stays as it is",
                Advice.Of("copy-again"));
        _spool ??= Spool.Create(_repository, _options);
        _spool.Write(bytes, offset - _slices.Length);
        _end = Math.Max(_end, offset + bytes.Length);
    }

    /// <inheritdoc/>
    public void Sync()
    {
    }

    /// <inheritdoc/>
    public void Truncate(long length)
    {
        // What an earlier run of another program left behind a state is part of a slice; readers look past it.
        if (length > _slices.Length || _spool is not null)
            _end = Math.Max(length, _slices.Length);
    }

    /// <summary>Others are kept from nothing: who comes second is told when it publishes.</summary>
    public bool TryLock() => true;

    /// <inheritdoc/>
    public bool IsStillAt(string path) => _published
        || Blocking.Wait(_repository.ReadDigestAsync(CancellationToken.None)) == _digest;

    /// <inheritdoc/>
    public void Publish(PublishedState state)
    {
        if (_spool is null)
            return;
        Blocking.Wait(PublishAsync(_manifest?.Layers ?? [], _spool.File, state.Length - _slices.Length, state, _options.Cancellation));
        _published = true;
        _spool.IsNeeded = false;
        // What an earlier run left stays for one that needs it.
        if (_unpublished.IsValueCreated)
            Spool.Forget(_repository, _options);
    }

    /// <inheritdoc/>
    public void Replace(IByteSource file, PublishedState state)
    {
        Blocking.Wait(PublishAsync([], file, state.Length, state, _options.Cancellation));
        _published = true;
    }

    private async Task PublishAsync(IReadOnlyList<OciDescriptor> before, IByteSource source, long length, PublishedState state,
        CancellationToken cancellation)
    {
        var slices = await CutAsync(source, length, cancellation).ConfigureAwait(false);
        var sent = 0L;
        void Sent(long more) => _options.Sent?.Invoke(Interlocked.Add(ref sent, more), length);
        Sent(0);
        foreach (var (slice, offset) in slices)
        {
            if (await _repository.HoldsAsync(slice, cancellation).ConfigureAwait(false))
                Sent(slice.Size);
            else
                await _repository.WriteBlobAsync(slice, source, offset, Sent, cancellation).ConfigureAwait(false);
        }
        var summary = JsonSerializer.SerializeToUtf8Bytes(new OciSummary
        {
            Archive = state.Id,
            State = state.Sequence,
            Length = state.Length,
            Created = state.Time,
            Images = [.. state.Images.Select(i => new OciSummaryImage(i.Number, i.Name, i.Version))],
        }, OciJson.Default.OciSummary);
        var config = new OciDescriptor
        {
            MediaType = OciManifest.SummaryType,
            Digest = OciRepository.DigestOf(summary),
            Size = summary.Length,
        };
        if (!await _repository.HoldsAsync(config, cancellation).ConfigureAwait(false))
        {
            using var bytes = new MemoryByteSource(summary);
            await _repository.WriteBlobAsync(config, bytes, 0, _ => { }, cancellation).ConfigureAwait(false);
        }
        var manifest = JsonSerializer.SerializeToUtf8Bytes(new OciManifest
        {
            ArtifactType = OciManifest.ArchiveType,
            Config = config,
            Layers = [.. before, .. slices.Select(s => s.Slice)],
            Annotations = new SortedDictionary<string, string>(StringComparer.Ordinal)
            {
                ["org.opencontainers.image.title"] = $"{_repository.Reference.Name.Split('/')[^1]}.vmb",
                ["org.opencontainers.image.version"] = state.Sequence.ToString(CultureInfo.InvariantCulture),
                ["org.opencontainers.image.created"] = state.Time.ToString("yyyy-MM-ddTHH:mm:ssZ", CultureInfo.InvariantCulture),
            },
        }, OciJson.Default.OciManifest);
        await PointAsync(manifest, state, cancellation).ConfigureAwait(false);
    }

    // A registry cannot compare and swap: the state gets a tag of its own first, so that it can be found whatever becomes of the other, and
    // the tag is looked at right before and right after it is moved.
    private async Task PointAsync(byte[] manifest, PublishedState state, CancellationToken cancellation)
    {
        var own = OciRepository.DigestOf(manifest);
        await _repository.WriteManifestAsync($"state-{state.Sequence}-{state.Mark}", manifest, cancellation).ConfigureAwait(false);
        if (await _repository.ReadDigestAsync(cancellation).ConfigureAwait(false) is var there && there != _digest && there != own)
            throw Moved();
        await _repository.WriteManifestAsync(_repository.Reference.Tag, manifest, cancellation).ConfigureAwait(false);
        if (await _repository.ReadDigestAsync(cancellation).ConfigureAwait(false) != own)
            throw Moved();
    }

    private VembarException Moved() => VembarException.Environment("place-changed",
        $"'{_repository.Reference.Text}' was changed by somebody else meanwhile; their change stands, yours was not made",
        "Run it again: what was prepared is used again.");

    private static async Task<List<(OciDescriptor Slice, long Offset)>> CutAsync(IByteSource source, long length,
        CancellationToken cancellation)
    {
        var slices = new List<(OciDescriptor, long)>();
        var buffer = new byte[HashPart];
        for (var start = 0L; start < length;)
        {
            var size = Math.Min(LongestSlice, length - start);
            using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
            for (var at = 0L; at < size;)
            {
                var count = (int)Math.Min(buffer.Length, size - at);
                if (await source.ReadAsync(buffer.AsMemory(0, count), start + at, cancellation).ConfigureAwait(false) < count)
                    throw new InvalidOperationException("what is published is shorter than it was");
                hash.AppendData(buffer, 0, count);
                at += count;
            }
            slices.Add((new OciDescriptor
            {
                MediaType = OciManifest.SliceType,
                Digest = $"sha256:{Convert.ToHexStringLower(hash.GetHashAndReset())}",
                Size = size,
            }, start));
            start += size;
        }
        return slices;
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        if (_unpublished.IsValueCreated)
            _unpublished.Value?.Dispose();
        _spool?.Dispose();
        _spool = null;
    }
}
