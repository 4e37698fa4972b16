using Vembar.Native;

namespace Vembar.Volumes.Disks;

/// <summary>A disk whose file holds only what differs from another disk: its parent.</summary>
/// <param name="map">Where its file has what.</param>
/// <param name="file">Its file.</param>
/// <param name="parent">The parent, closed with it.</param>
internal sealed class DifferencingDevice(IDifferencingMap map, IBlockDevice file, IBlockDevice parent) : IBlockDevice
{
    /// <inheritdoc/>
    public string DisplayName => file.DisplayName;

    /// <inheritdoc/>
    public bool MayWrite => false;

    /// <inheritdoc/>
    public long Length => map.Length;

    /// <inheritdoc/>
    public int Read(Span<byte> to, long offset)
    {
        var done = 0;
        while (done < to.Length && offset + done < Length)
        {
            var (place, length) = map.Find(offset + done);
            var part = to.Slice(done, (int)Math.Min(to.Length - done, length));
            switch (place.Kind)
            {
                case DiskPieceKind.Zero:
                    part.Clear();
                    break;
                case DiskPieceKind.Own when file.Read(part, place.Offset) < part.Length:
                    throw new NativeException("read", $"{DisplayName}, byte {offset + done}: its file is cut short", Errno.InputOutput);
                case DiskPieceKind.OfParent:
                    // A parent may be smaller; what is beyond it is zero.
                    var got = offset + done < parent.Length ? parent.Read(part, offset + done) : 0;
                    part[got..].Clear();
                    break;
            }
            done += part.Length;
        }
        return done;
    }

    /// <inheritdoc/>
    public void Write(ReadOnlySpan<byte> from, long offset) => throw new NativeException("write", DisplayName, Errno.ReadOnly);

    /// <inheritdoc/>
    public void Flush()
    {
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        parent.Dispose();
        file.Dispose();
    }
}
