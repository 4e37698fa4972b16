using Vembar.Store.Places;

namespace Vembar.Operations.Waves;

/// <summary>Notes what is read of an archive, and has it read as one that is far away.</summary>
internal sealed class RecordingSource(IByteSource source) : IByteSource
{
    private readonly Lock _gate = new();
    private readonly List<(long Start, long End)> _read = [];

    /// <summary>What was read, in that order.</summary>
    public IReadOnlyList<(long Start, long End)> Ranges
    {
        get
        {
            lock (_gate)
                return [.. _read];
        }
    }

    public long Length => source.Length;

    public bool IsRemote => true;

    public int Read(Span<byte> to, long offset)
    {
        var count = source.Read(to, offset);
        lock (_gate)
            _read.Add((offset, offset + count));
        return count;
    }

    public void Dispose() => source.Dispose();
}
