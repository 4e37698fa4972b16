using Vembar.Native;
using Vembar.Volumes.Disks;

namespace Vembar.Volumes.Targets;

/// <summary>A volume that is found as at its last checkpoint, whatever ends the writing.</summary>
internal sealed class CheckpointedVolume : TargetVolume
{
    private const ulong BitmapFile = 6;
    private readonly CheckpointedDevice _device;

    private CheckpointedVolume(CheckpointedDevice device, NtfsVolume volume) : base(volume) => _device = device;

    /// <summary>Opens a volume that is in order.</summary>
    /// <param name="volume">Opens the bytes that it lies on.</param>
    /// <param name="journal">A part of the disk that is nobody's.</param>
    public static CheckpointedVolume Open(Func<IBlockDevice> volume, IBlockDevice journal)
    {
        byte[] used;
        int clusterSize;
        using (var looked = NtfsVolume.Open(volume(), write: false))
        {
            clusterSize = (int)looked.ClusterSize;
            using var file = looked.Open(BitmapFile, "$Bitmap");
            using var data = file.OpenData();
            used = new byte[data.Length];
            for (var done = 0; done < used.Length;)
            {
                var count = data.Read(used.AsSpan(done, Math.Min(used.Length - done, 1 << 20)), done);
                if (count <= 0)
                    throw new NativeException("read", "$Bitmap", Errno.InputOutput);
                done += count;
            }
        }
        var device = new CheckpointedDevice(volume(), journal, used, clusterSize);
        try
        {
#pragma warning disable CA2000 // owned by what is returned
            return new CheckpointedVolume(device, NtfsVolume.Open(device, write: true, keepDevice: true));
#pragma warning restore CA2000
        }
        catch
        {
            device.Dispose();
            throw;
        }
    }

    /// <inheritdoc/>
    public override void Settle()
    {
        if (!_device.IsDue)
            return;
        Volume.Close();
        _device.Checkpoint();
        Volume = NtfsVolume.Open(_device, write: true, keepDevice: true);
    }

    /// <inheritdoc/>
    public override void Close()
    {
        Volume.Close();
        _device.Checkpoint();
    }

    protected override void Dispose(bool disposing)
    {
        base.Dispose(disposing);
        _device.Dispose();
    }
}
