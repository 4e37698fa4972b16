using Vembar.Store.Compression;
using Vembar.Store.Places;
using Vembar.Volumes.Disks;

namespace Vembar.Operations.Capture;

/// <summary>What to capture, into which archive, under which name.</summary>
public sealed record CaptureRequest
{
    /// <summary>The folder that is the root of the install, or the disk that it is on.</summary>
    public required string Source { get; init; }

    /// <summary>Which volume of a disk; null for the one that holds Windows.</summary>
    public int? Volume { get; init; }

    /// <summary>How a disk is opened; files that are missing from one that is damaged are excluded and listed.</summary>
    public DiskReading Reading { get; init; } = DiskReading.Usual;

    /// <summary>Whether files that cannot be read are left out and told, instead of failing.</summary>
    public bool SkipUnreadable { get; init; }

    /// <summary>The archive; made when there is none.</summary>
    public required ArchiveLocation Archive { get; init; }

    /// <summary>An archive whose content a new archive does not store again; null for an archive that stands alone.</summary>
    public string? BasedOn { get; init; }

    /// <summary>The image's name.</summary>
    public required string Name { get; init; }

    /// <summary>The edition; null for what the install says.</summary>
    public string? Edition { get; init; }

    /// <summary>The organisation's version.</summary>
    public string Version { get; init; } = "";

    /// <summary>A remark.</summary>
    public string Note { get; init; } = "";

    /// <summary>Labels.</summary>
    public IReadOnlyDictionary<string, string> Labels { get; init; } = new Dictionary<string, string>();

    /// <summary>How hard to compress.</summary>
    public Effort Effort { get; init; } = Effort.Balanced;

    /// <summary>Patterns of what to leave out beside the built-in ones.</summary>
    public IReadOnlyList<string> LeaveOut { get; init; } = [];

    /// <summary>Whether to keep what is left out otherwise.</summary>
    public bool KeepAll { get; init; }

    /// <summary>Whether to read every file, also those that an earlier image of the same source has unchanged.</summary>
    public bool Reread { get; init; }

    /// <summary>Whether to capture an install although checks stand against it.</summary>
    public bool AcceptUnready { get; init; }

    /// <summary>A file of the organisation's own readiness rules; null for none.</summary>
    public string? Rules { get; init; }

    /// <summary>How long to wait for another writer.</summary>
    public TimeSpan Wait { get; init; }

    /// <summary>Whether to begin although there seems to be too little room.</summary>
    public bool SkipRoomCheck { get; init; }
}
