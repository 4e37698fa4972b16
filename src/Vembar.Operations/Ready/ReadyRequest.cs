using Vembar.Volumes.Disks;

namespace Vembar.Operations.Ready;

/// <summary>What to check: an install on a disk or in a folder, or an image.</summary>
public sealed record ReadyRequest
{
    /// <summary>A folder, a disk image or a block device; not looked at when an image is given.</summary>
    public string Source { get; init; } = "";

    /// <summary>Which volume of a disk; null for the one that holds Windows.</summary>
    public int? Volume { get; init; }

    /// <summary>How a disk is opened.</summary>
    public DiskReading Reading { get; init; } = DiskReading.Usual;

    /// <summary>An image; null for a source.</summary>
    public ImageReference? Image { get; init; }

    /// <summary>A file of the organisation's own rules; null for none.</summary>
    public string? Rules { get; init; }
}
