using Vembar.Native;

namespace Vembar.Volumes.Disks;

/// <summary>A part of another device: a partition. Nothing outside of it can be read or written.</summary>
public sealed class SliceDevice : IBlockDevice
{
    private readonly IBlockDevice _whole;
    private readonly long _start;

    /// <summary>A part of a device, which is closed with it.</summary>
    /// <exception cref="ArgumentOutOfRangeException">It reaches beyond the device.</exception>
    public SliceDevice(IBlockDevice whole, long start, long length)
    {
        ArgumentOutOfRangeException.ThrowIfNegative(start);
        ArgumentOutOfRangeException.ThrowIfNegative(length);
        ArgumentOutOfRangeException.ThrowIfGreaterThan(start, whole.Length - length);
        _whole = whole;
        _start = start;
        Length = length;
    }

    /// <inheritdoc/>
    public string DisplayName => _whole.DisplayName;

    /// <inheritdoc/>
    public long Length { get; }

    /// <inheritdoc/>
    public bool MayWrite => _whole.MayWrite;

    /// <inheritdoc/>
    public int Read(Span<byte> to, long offset) =>
        offset >= Length ? 0 : _whole.Read(to[..(int)Math.Min(to.Length, Length - offset)], _start + offset);

    /// <inheritdoc/>
    public void Write(ReadOnlySpan<byte> from, long offset)
    {
        if (offset < 0 || offset > Length - from.Length)
            throw new NativeException("write beyond the end of the partition", DisplayName, Errno.NoSpace);
        _whole.Write(from, _start + offset);
    }

    /// <inheritdoc/>
    public void Flush() => _whole.Flush();

    /// <inheritdoc/>
    public void Dispose() => _whole.Dispose();
}
