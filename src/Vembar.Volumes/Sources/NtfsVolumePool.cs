using System.Collections.Concurrent;
using Vembar.Images.Nodes;
using Vembar.Native;
using Vembar.Volumes.Disks;

namespace Vembar.Volumes.Sources;

/// <summary>A volume opened as often as there are threads that read it: each uses one of its own.</summary>
/// <param name="open">Opens the bytes that it lies on.</param>
internal sealed class NtfsVolumePool(Func<IBlockDevice> open) : IDisposable
{
    private readonly ConcurrentBag<NtfsVolume> _idle = [];

    /// <summary>One that nobody uses.</summary>
    /// <exception cref="NativeException">It cannot be opened.</exception>
    public NtfsVolume Rent()
    {
        if (_idle.TryTake(out var volume))
            return volume;
        var device = open();
        try
        {
            return NtfsVolume.Open(device, write: false);
        }
        catch
        {
            device.Dispose();
            throw;
        }
    }

    /// <summary>Gives one back.</summary>
    public void Return(NtfsVolume volume) => _idle.Add(volume);

    /// <summary>Opens a stream of a file; it has a volume of its own until it is disposed.</summary>
    /// <param name="reference">The file's number.</param>
    /// <param name="stream">The stream's name; empty for the content.</param>
    /// <param name="displayName">What it is, for messages.</param>
    /// <exception cref="NativeException">It is not there or cannot be read.</exception>
    public ISourceFile OpenStream(ulong reference, string stream, string displayName)
    {
#pragma warning disable CA2000 // given back to the idle ones
        var volume = Rent();
#pragma warning restore CA2000
        NtfsFile? file = null;
        try
        {
            file = volume.Open(reference, displayName);
            return new SourceFile(this, volume, file, file.OpenData(stream));
        }
        catch
        {
            file?.Dispose();
            Return(volume);
            throw;
        }
    }

    private sealed class SourceFile(NtfsVolumePool pool, NtfsVolume volume, NtfsFile file, NtfsData data) : ISourceFile
    {
        public long Length => data.Length;

        public int Read(Span<byte> to, long offset) => data.Read(to, offset);

        public (long Start, long End) NextData(long offset) => data.NextData(offset);

        // Whoever reads a volume that is in use reads rubbish anyway; nothing can be told from here.
        public bool HasChanged() => false;

        public void Dispose()
        {
            data.Dispose();
            file.Dispose();
            pool.Return(volume);
        }
    }

    public void Dispose()
    {
        foreach (var volume in _idle)
            volume.Dispose();
    }
}
