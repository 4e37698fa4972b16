using System.Globalization;
using System.Text.Json;
using Microsoft.Win32.SafeHandles;
using Vembar.Native;

namespace Vembar.Volumes.Disks;

/// <summary>One image of a chain with its open files.</summary>
internal sealed class ImageLayer : IDisposable
{
    private readonly FileDevice _file;
    private SafeFileHandle? _descriptor;

    /// <param name="file">Its file; closed with this.</param>
    /// <param name="format">Its format.</param>
    public ImageLayer(FileDevice file, DiskFormat format)
    {
        _file = file;
        Format = format;
        Container = new ContainerFile(file, file.DisplayName);
    }

    /// <summary>Its path.</summary>
    public string Path => _file.DisplayName;

    /// <summary>Its format.</summary>
    public DiskFormat Format { get; }

    /// <summary>What its tables say.</summary>
    public ContainerFile Container { get; }

    /// <summary>All files of it.</summary>
    public IEnumerable<FileDevice> Files =>
        [_file, .. Container.DataFile is { } data ? [data] : Array.Empty<FileDevice>(),
            .. Container.Extents.Select(e => e.File).OfType<FileDevice>()];

    /// <summary>The node of QEMU's graph for it, which names no file but by the number of an open one.</summary>
    /// <param name="give">Gives an open file to the program, and says by what number.</param>
    /// <param name="backing">The node of the image that it stands on; null for none.</param>
    /// <param name="write">Whether it is written.</param>
    public Dictionary<string, object?> Node(Func<SafeFileHandle, int> give, Dictionary<string, object?>? backing, bool write)
    {
        static Dictionary<string, object?> File(int number) => new() { ["driver"] = "file", ["filename"] = $"/proc/self/fd/{number}" };
        _descriptor = Container.Extents.Count > 0 ? Descriptor(give) : null;
        var node = new Dictionary<string, object?>
        {
            ["driver"] = DriverOf(Format),
            ["file"] = File(give(_descriptor ?? _file.Handle)),
        };
        if (!write)
            node["read-only"] = true;
        // Where they are not said, the names in the image are followed.
        if (Format is DiskFormat.Qcow2 or DiskFormat.Vmdk)
            node["backing"] = backing;
        if (Container.DataFile is { } data)
            node["data-file"] = File(give(data.Handle));
        // The size in the footer counts: else it is taken from the geometry for makers that QEMU does not know, up to 2 MiB too short.
        if (Format == DiskFormat.Vhd)
            node["force_size_calc"] = "current_size";
        return node;
    }

    /// <summary>How QEMU calls a format.</summary>
    public static string DriverOf(DiskFormat format) =>
        format switch { DiskFormat.Vhd => "vpc", DiskFormat.Raw => "raw", _ => format.ToString().ToLowerInvariant() };

    // A descriptor of ours: its extents are open files.
    private SafeFileHandle Descriptor(Func<SafeFileHandle, int> give)
    {
        var text = new System.Text.StringBuilder("# Disk DescriptorFile\nversion=1\n");
        text.Append(CultureInfo.InvariantCulture, $"CID={Container.ContentId}\nparentCID={Container.ParentContentId}\n");
        // QEMU looks for this comment.
        text.Append("createType=\"twoGbMaxExtentSparse\"\n\n# Extent description\n");
        foreach (var extent in Container.Extents)
        {
            text.Append(CultureInfo.InvariantCulture, $"RW {extent.Sectors} ");
            if (extent.File is null)
                text.Append("ZERO\n");
            else if (extent.IsSparse)
                text.Append(CultureInfo.InvariantCulture, $"SPARSE \"/proc/self/fd/{give(extent.File.Handle)}\"\n");
            else
                text.Append(CultureInfo.InvariantCulture, $"FLAT \"/proc/self/fd/{give(extent.File.Handle)}\" {extent.Offset}\n");
        }
        var descriptor = Posix.MemoryFile(out _);
        Posix.Write(descriptor, System.Text.Encoding.ASCII.GetBytes(text.ToString()), 0);
        return descriptor;
    }

    /// <summary>Takes over what QEMU changed in a descriptor of ours: the number that tells the content from what it was.</summary>
    public void KeepContentId()
    {
        if (_descriptor is null)
            return;
        var bytes = new byte[Posix.EndOf(_descriptor)];
        var count = Posix.Read(_descriptor, bytes, 0);
        VmdkLayout.ReplaceContentId(_file, System.Text.Encoding.ASCII.GetString(bytes, 0, count));
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        _descriptor?.Dispose();
        foreach (var file in Files)
            file.Dispose();
    }
}
