using Vembar.Operations.Sign;
using Vembar.Operations.Survey;
using Vembar.Volumes.Compaction;

namespace Vembar.Operations.Deploy;

/// <summary>Which image goes where, and how.</summary>
public sealed record DeployRequest
{
    /// <summary>The image.</summary>
    public required ImageReference Image { get; init; }

    /// <summary>A folder, made when there is none (but not the folders above it); a disk image or a block device.</summary>
    public required string Target { get; init; }

    /// <summary>Whether the folder or volume may hold files already; they are left as they are.</summary>
    public bool KeepExisting { get; init; }

    /// <summary>Makes a disk image of this many bytes; null for a target that is there, or a folder.</summary>
    public long? Size { get; init; }

    /// <summary>How the disk is divided: "uefi", "bios" or a file; null for "uefi".</summary>
    public string? Layout { get; init; }

    /// <summary>Deploys into this volume of a disk that is there, instead of dividing it.</summary>
    public int? Volume { get; init; }

    /// <summary>Asked before a disk that is there is erased, with what is on it; null refuses.</summary>
    public Func<SurveyResult, bool>? MayErase { get; init; }

    /// <summary>An answer file for this machine.</summary>
    public string? Answers { get; init; }

    /// <summary>The name that this machine's answer file gives it.</summary>
    public string? ComputerName { get; init; }

    /// <summary>Texts for what stands between {{ and }} in the answer file.</summary>
    public IReadOnlyDictionary<string, string> Fill { get; init; } = new Dictionary<string, string>();

    /// <summary>Which files are written compacted; onto disks and volumes only.</summary>
    public CompactionChoice Compact { get; init; }

    /// <summary>Whether to read everything back and compare.</summary>
    public bool Verify { get; init; }

    /// <summary>Those of whom one has to have signed the image; null for nobody.</summary>
    public ImageTrust? SignedBy { get; init; }

    /// <summary>What is kept on the disk while it is divided and written, by which whoever began it finds it again after a power cut: then
    /// the same request goes on where it was. It stays there at the end too, until <see cref="Volumes.Targets.DiskNote.Remove"/>. Null
    /// for a disk that is begun anew.</summary>
    public string? Note { get; init; }

    /// <summary>Tells of what ended a deployment whether it is not to be gone on with, although the disk has its note: then the disk is
    /// left as one that holds nothing.</summary>
    public Func<Exception, bool> IsGivenUp { get; init; } = _ => false;

    /// <summary>The hash of the root folder that the image has to have, so that it is the one that was meant; null for any.</summary>
    public string? Root { get; init; }

    /// <summary>Whether to write a disk that the image cannot start from.</summary>
    public bool AcceptMisfit { get; init; }

    /// <summary>Whether to begin although there seems to be too little room.</summary>
    public bool SkipRoomCheck { get; init; }
}
