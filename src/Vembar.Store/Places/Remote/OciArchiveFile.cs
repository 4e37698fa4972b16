using System.Globalization;
using System.Security.Cryptography;
using System.Text.Json;
using Vembar.Common;

namespace Vembar.Store.Places.Remote;

/// <summary>
/// An archive in a registry: its slices, and behind them what is written, which lies in a local file until it is published. docs/places.md.
/// </summary>
internal sealed class OciArchiveFile : SpooledArchiveFile
{
    // A slice that breaks off or is lost costs no more than this.
    private const long LongestSlice = 64L << 20;
    private const int HashPart = 1 << 20;

    private readonly OciRepository _repository;
    private readonly PlaceOptions _options;
    private readonly OciManifest? _manifest;
    private readonly string? _digest;

    private OciArchiveFile(OciRepository repository, PlaceOptions options, OciManifest? manifest, string? digest)
        : base(repository.Reference.Text, new OciSlices(repository, manifest?.Layers ?? []), options)
    {
        _repository = repository;
        _options = options;
        _manifest = manifest;
        _digest = digest;
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
    protected override bool IsUnchanged() => Blocking.Wait(_repository.ReadDigestAsync(CancellationToken.None)) == _digest;

    /// <inheritdoc/>
    protected override Task PublishAsync(IByteSource tail, long length, PublishedState state) =>
        PublishAsync(_manifest?.Layers ?? [], tail, length, state, _options.Cancellation);

    /// <inheritdoc/>
    protected override Task ReplaceAsync(IByteSource file, PublishedState state) =>
        PublishAsync([], file, state.Length, state, _options.Cancellation);

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
}
