using Vembar.Common;

namespace Vembar.Store.Places.Remote;

/// <summary>An archive that is elsewhere, as a writer has it: what is published there, and behind it what is written, which lies in a local
/// file until it is published. docs/places.md.</summary>
internal abstract class SpooledArchiveFile : IArchiveFile, IPublishedFile
{
    private readonly string _place;
    private readonly IByteSource _there;
    private readonly PlaceOptions _options;
    private readonly long _start;
    private readonly Lazy<IByteSource?> _unpublished;
    private Spool? _spool;
    private long _end;
    private bool _published;

    /// <param name="place">Its address.</param>
    /// <param name="there">What is published; disposed with this.</param>
    /// <param name="options">How the place is talked to.</param>
    protected SpooledArchiveFile(string place, IByteSource there, PlaceOptions options)
    {
        (_place, _there, _options) = (place, there, options);
        _end = _start = there.Length;
        _unpublished = new Lazy<IByteSource?>(() => Spool.Kept(place, options));
    }

    /// <summary>Whether what is there is still what was there when this was opened.</summary>
    protected abstract bool IsUnchanged();

    /// <summary>Sends what was written, and makes it the state that others see.</summary>
    protected abstract Task PublishAsync(IByteSource tail, long length, PublishedState state);

    /// <summary>Sends another file, and makes it the whole of what others see.</summary>
    protected abstract Task ReplaceAsync(IByteSource file, PublishedState state);

    /// <summary>The error where somebody else published first.</summary>
    protected VembarException Moved() => VembarException.Environment("place-changed",
        $"'{_place}' was changed by somebody else meanwhile; their change stands, yours was not made",
        "Run it again: what was prepared is used again.");

    /// <inheritdoc/>
    public long Length => _end;

    /// <inheritdoc/>
    public bool IsRemote => true;

    /// <inheritdoc/>
    public IByteSource? Unpublished => _unpublished.Value;

    /// <inheritdoc/>
    public int Read(Span<byte> to, long offset) => offset >= _start ? ReadSpool(to, offset) : Blocking.Read(this, to, offset);

    /// <inheritdoc/>
    public async ValueTask<int> ReadAsync(Memory<byte> to, long offset, CancellationToken cancellation = default)
    {
        var there = (int)Math.Clamp(_start - offset, 0, to.Length);
        var done = there > 0 ? await _there.ReadAsync(to[..there], offset, cancellation).ConfigureAwait(false) : 0;
        return done == there && done < to.Length ? done + ReadSpool(to.Span[done..], offset + done) : done;
    }

    private int ReadSpool(Span<byte> to, long offset) => _spool is null || offset >= _end ? 0
        : _spool.Read(to[..(int)Math.Min(to.Length, _end - offset)], offset - _start);

    /// <inheritdoc/>
    public ValueTask ReadManyAsync(IReadOnlyList<ByteRange> ranges, CancellationToken cancellation = default) =>
        ranges.All(r => r.Offset + r.Buffer.Length <= _start) ? _there.ReadManyAsync(ranges, cancellation)
        : RangeJoiner.ReadAsync(this, ranges, null, cancellation);

    /// <inheritdoc/>
    public void Write(ReadOnlySpan<byte> bytes, long offset)
    {
        if (offset < _start)
            throw VembarException.Input("place-keeps", $"'{_place}' is not healed in place: what is published stays as it is",
                Advice.Of("copy-again"));
        _spool ??= Spool.Create(_place, _options);
        _spool.Write(bytes, offset - _start);
        _end = Math.Max(_end, offset + bytes.Length);
    }

    /// <inheritdoc/>
    public void Sync()
    {
    }

    /// <inheritdoc/>
    public void Truncate(long length)
    {
        // What another program left behind a state is published; readers look past it.
        if (length > _start || _spool is not null)
            _end = Math.Max(length, _start);
    }

    /// <summary>Others are kept from nothing: who comes second is told when it publishes.</summary>
    public bool TryLock() => true;

    /// <inheritdoc/>
    public bool IsStillAt(string path) => _published || IsUnchanged();

    /// <inheritdoc/>
    public void Publish(PublishedState state)
    {
        if (_spool is null)
            return;
        Blocking.Wait(PublishAsync(_spool.File, state.Length - _start, state));
        _published = true;
        _spool.IsNeeded = false;
        // What an earlier run left stays for one that needs it.
        if (_unpublished.IsValueCreated)
            Spool.Forget(_place, _options);
    }

    /// <inheritdoc/>
    public void Replace(IByteSource file, PublishedState state)
    {
        Blocking.Wait(ReplaceAsync(file, state));
        _published = true;
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        if (_unpublished.IsValueCreated)
            _unpublished.Value?.Dispose();
        _spool?.Dispose();
        _spool = null;
        _there.Dispose();
    }
}
