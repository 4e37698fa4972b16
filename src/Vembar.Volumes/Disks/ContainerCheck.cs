using Vembar.Common;

namespace Vembar.Volumes.Disks;

/// <summary>Compares what disk images say of themselves with their files, before anything of them is read: what serves them reads what is
/// missing as zeros, and passes over marks.</summary>
public static class ContainerCheck
{
    private const int MostLayers = 64;

    /// <summary>Checks a disk image and every image that it stands on.</summary>
    /// <param name="path">Its file.</param>
    /// <param name="format">Its format.</param>
    /// <param name="acceptDamaged">Whether an image that is cut short or marked may be read all the same.</param>
    /// <returns>The length of the disk in bytes, 0 if the image does not say it; and the stretches of it that are missing, in
    /// order.</returns>
    /// <exception cref="VembarException">It is damaged, cut short or marked.</exception>
    public static (long DiskLength, IReadOnlyList<(long Start, long Length)> Missing) Demand(string path, DiskFormat format,
        bool acceptDamaged)
    {
        var missing = new List<(long Start, long Length)>();
        var length = 0L;
        var seen = new HashSet<string>();
        for (string? layer = path; layer is not null;)
        {
            if (!seen.Add(Path.GetFullPath(layer)) || seen.Count > MostLayers)
                throw VembarException.Input("disk-circle", $"cannot read the disk image '{path}': it stands on itself, or on more than "
                    + $"{MostLayers} others", "Join them into one image.");
            using var device = FileDevice.Open(layer, write: false);
            var file = new ContainerFile(device, layer);
            Read(file, seen.Count == 1 ? format : DiskImage.FormatOf(layer));
            if (!acceptDamaged)
                Demand(file);
            missing.AddRange(file.Missing);
            length = seen.Count == 1 ? file.DiskLength : length;
            layer = file.Backing is { Length: > 0 } backing && !backing.Contains(':', StringComparison.Ordinal)
                && Path.Combine(Path.GetDirectoryName(Path.GetFullPath(layer))!, backing) is var next && File.Exists(next) ? next : null;
        }
        return (length, Joined(missing));
    }

    // Layers of a chain may lack the same bytes; in order and without overlaps one search finds what is missing.
    private static List<(long Start, long Length)> Joined(IEnumerable<(long Start, long Length)> missing)
    {
        var joined = new List<(long Start, long Length)>();
        foreach (var (start, length) in missing.Order())
        {
            if (joined.Count > 0 && joined[^1].Start + joined[^1].Length >= start)
                joined[^1] = (joined[^1].Start, Math.Max(joined[^1].Length, start + length - joined[^1].Start));
            else
                joined.Add((start, length));
        }
        return joined;
    }

    /// <summary>Demands that what looks like a raw image is not one of another format that lost its marks: a VHD of fixed size has them in
    /// its last sector alone.</summary>
    /// <exception cref="VembarException">Its name says that it is another format.</exception>
    public static void DemandRaw(string path)
    {
        if (!File.Exists(path) || Path.GetExtension(path).ToLowerInvariant() is not (".vhd" or ".vhdx" or ".qcow2" or ".vdi"))
            return;
        var format = Path.GetExtension(path)[1..].ToUpperInvariant();
        throw VembarException.Input("disk-cut-short", $"cannot read the disk image '{path}': its name says {format}, and it has none of "
            + $"its marks{(format == "VHD" ? ": a fixed VHD has them in its last 512 bytes" : "")}", Advice.Of("disk-cut-short"));
    }

    private static void Demand(ContainerFile file)
    {
        file.DemandWhole();
        if (file.Marks.Count > 0)
            throw VembarException.Input("disk-not-closed", $"cannot read the disk image '{file.Path}': {string.Join("; ", file.Marks)}",
                Advice.Of("disk-not-closed"));
    }

    private static void Read(ContainerFile file, DiskFormat format)
    {
        switch (format)
        {
            case DiskFormat.Qcow2:
                Qcow2Layout.Read(file);
                break;
            case DiskFormat.Vmdk:
                VmdkLayout.Read(file);
                break;
            case DiskFormat.Vhd:
                VhdLayout.Read(file);
                break;
            case DiskFormat.Vhdx:
                VhdxLayout.Read(file);
                break;
            case DiskFormat.Vdi:
                VdiLayout.Read(file);
                break;
        }
    }
}
