using System.Runtime.InteropServices;
using System.Text.Json;
using Microsoft.Win32.SafeHandles;
using Vembar.Common;
using Vembar.Native;

namespace Vembar.Volumes.Disks;

/// <summary>A disk image with all images that it stands on, each with all of its files: opened once, checked against their own tables, and
/// described to QEMU as open files, so that it follows no name in an image. docs/reliability.md, "Disk images".</summary>
internal sealed class ImageChain : IDisposable
{
    private const int MostLayers = 64, FirstNumber = 20;
    private readonly List<ImageLayer> _layers = [];
    private readonly HashSet<(ulong Device, ulong Inode)> _seen = [];

    private ImageChain()
    {
    }

    /// <summary>The length of the disk in bytes as its header says; 0 if that does not say it.</summary>
    public long DiskLength => _layers[0].Container.DiskLength;

    /// <summary>The stretches of the disk that are missing, in order.</summary>
    public IReadOnlyList<(long Start, long Length)> Missing { get; private set; } = [];

    /// <summary>Opens a disk image and every image that it stands on.</summary>
    /// <param name="file">Its file; closed with this.</param>
    /// <param name="format">Its format.</param>
    /// <param name="reading">How it is opened.</param>
    /// <exception cref="VembarException">It is damaged, cut short or marked, or one of its files is not there or not allowed.</exception>
    public static ImageChain Open(FileDevice file, DiskFormat format, DiskReading reading)
    {
        var names = new ChainNames(file.DisplayName, reading.ChainFolders);
        var chain = new ImageChain();
        try
        {
            var (next, kind) = ((FileDevice?)file, format);
            while (next is not null)
            {
                var layer = new ImageLayer(next, kind);
                chain._layers.Add(layer);
                Read(layer.Container, kind, names);
                chain.DemandNew(layer);
                if (layer.Container.DiffersFromParent && chain._layers.Count > 1)
                    throw layer.Container.Bad("it holds only what differs from a parent, and other images stand on it");
                if (!reading.AcceptDamaged)
                    Demand(layer.Container);
                (next, kind) = Backing(layer, names);
            }
            chain.Missing = Joined(chain._layers.SelectMany(l => l.Container.Missing));
            return chain;
        }
        catch
        {
            chain.Dispose();
            throw;
        }
    }

    // One that is met again would be read for ever.
    private void DemandNew(ImageLayer layer)
    {
        foreach (var file in layer.Files.Except(layer.Container.Extents.Select(e => e.File)))
        {
            var stat = Posix.Stat(file!.Handle);
            if (!_seen.Add((stat.Device, stat.Inode)) || _layers.Count > MostLayers)
                throw VembarException.Input("disk-circle",
                    $"cannot read the disk image '{_layers[0].Path}': it stands on itself, or on more "
                    + $"than {MostLayers} others", "Join them into one image.");
        }
    }

    private static (FileDevice? File, DiskFormat Format) Backing(ImageLayer layer, ChainNames names)
    {
        var container = layer.Container;
        if (container.Backing is not { Length: > 0 } name)
            return (null, default);
        if (layer.Format == DiskFormat.Vmdk)
            return (VmdkLayout.OpenParent(container, name, names), DiskFormat.Vmdk);
        var file = names.Open(name, layer.Path, "backing file");
        try
        {
            return (file, FormatOf(container, file));
        }
        catch
        {
            file.Dispose();
            throw;
        }
    }

    // What the image says counts: a raw disk may hold anything, also what looks like the header of another format.
    private static DiskFormat FormatOf(ContainerFile container, FileDevice file)
    {
        if (container.BackingFormat == "raw")
            return DiskFormat.Raw;
        var found = DiskImage.FormatOf(file);
        return container.BackingFormat is null || container.BackingFormat == ImageLayer.DriverOf(found) ? found
            : throw container.Bad($"its backing file '{file.DisplayName}' is {ImageLayer.DriverOf(found)}, not what it says");
    }

    private static void Demand(ContainerFile file)
    {
        file.DemandWhole();
        if (file.Marks.Count > 0)
            throw VembarException.Input("disk-not-closed", $"cannot read the disk image '{file.Path}': {string.Join("; ", file.Marks)}",
                Advice.Of("disk-not-closed"));
    }

    private static void Read(ContainerFile file, DiskFormat format, ChainNames names)
    {
        switch (format)
        {
            case DiskFormat.Qcow2:
                Qcow2Layout.Read(file, names);
                break;
            case DiskFormat.Vmdk:
                VmdkLayout.Read(file, names);
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
            default:
                file.DiskLength = file.Length;
                break;
        }
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

    /// <summary>The whole chain as a graph of QEMU.</summary>
    /// <param name="write">Whether the disk is written; what it stands on is only read.</param>
    /// <param name="files">The open files that QEMU has to get, by the numbers that the graph names.</param>
    /// <returns>The graph in JSON, its outermost node the disk.</returns>
    public string Graph(bool write, IDictionary<int, SafeHandle> files)
    {
        int Give(SafeFileHandle file)
        {
            var number = FirstNumber + files.Count;
            files.Add(number, file);
            return number;
        }
        Dictionary<string, object?>? node = null;
        for (var i = _layers.Count - 1; i >= 0; i--)
            node = _layers[i].Node(Give, node, write && i == 0);
        return Json(node);
    }

    private static string Json(Dictionary<string, object?>? node) => node is null ? "null" : "{" + string.Join(',', node.Select(p =>
        $"\"{p.Key}\":" + p.Value switch
        {
            null => "null",
            true => "true",
            string text => $"\"{JsonEncodedText.Encode(text)}\"",
            _ => Json((Dictionary<string, object?>)p.Value),
        })) + "}";

    /// <summary>The files of the disk itself, which are written; what it stands on is not.</summary>
    public IReadOnlyList<SafeFileHandle> Own => [.. _layers[0].Files.Select(f => f.Handle)];

    /// <summary>Ends the writing.</summary>
    public void Finish() => _layers[0].KeepContentId();

    /// <inheritdoc/>
    public void Dispose()
    {
        foreach (var layer in _layers)
            layer.Dispose();
    }
}
