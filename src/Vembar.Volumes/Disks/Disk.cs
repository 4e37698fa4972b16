using Vembar.Common;
using Vembar.Store.Reading;

namespace Vembar.Volumes.Disks;

/// <summary>A disk with its volumes, open for reading, or for writing where that is said.</summary>
public sealed class Disk : IDisposable
{
    private readonly DiskImage _image;

    private Disk(DiskImage image, PartitionTable table, IReadOnlyList<DiskVolume> volumes, bool isUnfinished)
    {
        IsUnfinished = isUnfinished;
        _image = image;
        Table = table;
        Volumes = volumes;
    }

    /// <summary>Opens a disk image or block device and looks what is on it.</summary>
    /// <exception cref="VembarException">It cannot be opened, or its partition table is damaged.</exception>
    /// <param name="path">The image or device.</param>
    /// <param name="write">Whether it is to be written.</param>
    /// <param name="reading">How it is opened.</param>
    public static Disk Open(string path, bool write = false, DiskReading? reading = null)
    {
        if (ArchiveReader.IsArchive(path))
            throw VembarException.Input("not-a-disk", $"'{path}' is an archive of images, not a disk",
                Advice.Of("archive-as-disk", ("path", path)));
#pragma warning disable CA2000 // owned by what is returned
        var image = DiskImage.Open(path, write, reading);
#pragma warning restore CA2000
        try
        {
            using var device = image.OpenDevice();
            var table = PartitionTable.Read(device);
            var volumes = new List<DiskVolume>();
            if (table.Scheme == PartitionScheme.None)
                volumes.Add(new DiskVolume(1, 0, image.Length, null, Probe(device, reading)));
            foreach (var partition in table.Partitions)
            {
#pragma warning disable CA2000 // owned by what is returned
                using var slice = new SliceDevice(image.OpenDevice(), partition.Start, partition.Length);
#pragma warning restore CA2000
                volumes.Add(new DiskVolume(partition.Number, partition.Start, partition.Length, partition, Probe(slice, reading)));
            }
            return new Disk(image, table, volumes, table.Scheme != PartitionScheme.None && UnfinishedMark.IsOn(device));
        }
        catch
        {
            image.Dispose();
            throw;
        }
    }

    // Of an image that is cut short a volume may be missing as a whole.
    private static FileSystem Probe(IBlockDevice volume, DiskReading? reading)
    {
        try
        {
            return FileSystem.Probe(volume);
        }
        catch (VembarException) when (reading?.AcceptDamaged == true)
        {
            return new FileSystem(FileSystem.Unknown, "", null);
        }
    }

    /// <summary>The image's path.</summary>
    public string Path => _image.Path;

    /// <summary>How the image is kept.</summary>
    public DiskFormat Format => _image.Format;

    /// <summary>The disk's length in bytes.</summary>
    public long Length => _image.Length;

    /// <summary>The partition table.</summary>
    public PartitionTable Table { get; }

    /// <summary>What should be known of the disk.</summary>
    public IReadOnlyList<string> Warnings => [.. _image.Warnings, .. Table.Warnings, .. IsUnfinished
        ? [$"'{Path}' is being written, or a deployment to it was broken off: what is on it is not whole"] : Array.Empty<string>()];

    /// <summary>Whether a deployment to it did not come to its end.</summary>
    public bool IsUnfinished { get; }

    /// <summary>The volumes in the order of their places.</summary>
    public IReadOnlyList<DiskVolume> Volumes { get; }

    /// <summary>Opens the bytes of a volume; each time with a position of its own.</summary>
    public IBlockDevice OpenVolume(DiskVolume volume) => new SliceDevice(_image.OpenDevice(), volume.Start, volume.Length);

    /// <summary>Opens all of the disk.</summary>
    public IBlockDevice OpenDevice() => _image.OpenDevice();

    /// <inheritdoc/>
    public void Dispose() => _image.Dispose();
}
