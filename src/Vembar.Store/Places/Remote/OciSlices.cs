using Vembar.Common;

namespace Vembar.Store.Places.Remote;

/// <summary>The file that slices in a registry are consecutive parts of.</summary>
internal sealed class OciSlices : IByteSource
{
    private readonly OciRepository _repository;
    private readonly RangeReader[] _readers;
    private readonly long[] _starts;

    public OciSlices(OciRepository repository, IReadOnlyList<OciDescriptor> slices)
    {
        _repository = repository;
        Descriptors = slices;
        _readers = [.. slices.Select(repository.Blob)];
        _starts = new long[slices.Count + 1];
        for (var i = 0; i < slices.Count; i++)
            _starts[i + 1] = _starts[i] + slices[i].Size;
    }

    /// <summary>The slices.</summary>
    public IReadOnlyList<OciDescriptor> Descriptors { get; }

    /// <summary>How long they are together.</summary>
    public long Length => _starts[^1];

    /// <inheritdoc/>
    public bool IsRemote => true;

    /// <inheritdoc/>
    public int Read(Span<byte> to, long offset) => Blocking.Read(this, to, offset);

    /// <inheritdoc/>
    public ValueTask ReadManyAsync(IReadOnlyList<ByteRange> ranges, CancellationToken cancellation = default) =>
        RangeJoiner.ReadAsync(this, ranges, null, cancellation);

    /// <inheritdoc/>
    public void Dispose()
    {
    }

    /// <summary>Reads from a place of the file.</summary>
    /// <returns>How many bytes there were; fewer than there is room for only at the end.</returns>
    /// <exception cref="VembarException">They cannot be read.</exception>
    public async ValueTask<int> ReadAsync(Memory<byte> to, long offset, CancellationToken cancellation = default)
    {
        var done = 0;
        while (done < to.Length && offset + done < Length)
        {
            var at = offset + done;
            var slice = Array.BinarySearch(_starts, at) is var found && found >= 0 ? found : ~found - 1;
            var count = (int)Math.Min(to.Length - done, _starts[slice + 1] - at);
            var got = await _readers[slice].ReadAsync(to.Slice(done, count), at - _starts[slice], cancellation).ConfigureAwait(false);
            if (got < count)
            {
                var which = $"a part of the archive ({Descriptors[slice].Digest[..19]}…)";
                throw VembarException.Damaged(got < 0 ? $"'{_repository.Reference.Text}' has lost {which}"
                    : $"'{_repository.Reference.Text}' holds {which} that is cut short", Advice.Of("copy-again"));
            }
            done += got;
        }
        return done;
    }
}
