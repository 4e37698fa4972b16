using Vembar.Native;

namespace Vembar.Volumes.Disks;

/// <summary>A disk whose image is cut short: reading bytes that are not in its file is an error, where its server would give
/// zeros.</summary>
/// <param name="device">The disk as it is served; closed with this.</param>
/// <param name="missing">Stretches of it that are not in the file, in the order of their places.</param>
internal sealed class MissingPartsDevice(IBlockDevice device, IReadOnlyList<(long Start, long Length)> missing) : IBlockDevice
{
    /// <inheritdoc/>
    public string DisplayName => device.DisplayName;

    /// <inheritdoc/>
    public bool MayWrite => false;

    /// <inheritdoc/>
    public long Length => device.Length;

    /// <inheritdoc/>
    /// <exception cref="NativeException">A part of it is missing.</exception>
    public int Read(Span<byte> to, long offset)
    {
        // The first stretch that ends behind the offset; they do not overlap but for layers of a chain.
        var (low, high) = (0, missing.Count);
        while (low < high)
        {
            var middle = (low + high) / 2;
            if (missing[middle].Start + missing[middle].Length <= offset)
                low = middle + 1;
            else
                high = middle;
        }
        if (low == missing.Count || missing[low].Start >= offset + to.Length)
            return device.Read(to, offset);
        var at = Math.Max(offset, missing[low].Start);
        throw new NativeException("read", $"{DisplayName}, byte {at}: not in its file, which is cut short", Errno.InputOutput);
    }

    /// <inheritdoc/>
    public void Write(ReadOnlySpan<byte> from, long offset) => throw new NativeException("write", DisplayName, Errno.ReadOnly);

    /// <inheritdoc/>
    public void Flush()
    {
    }

    /// <inheritdoc/>
    public void Dispose() => device.Dispose();
}
