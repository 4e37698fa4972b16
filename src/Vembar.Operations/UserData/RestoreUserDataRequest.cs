using Vembar.Volumes.Disks;

namespace Vembar.Operations.UserData;

/// <summary>Which user files to put back, and where.</summary>
public sealed record RestoreUserDataRequest
{
    /// <summary>The image of user files.</summary>
    public required ImageReference Image { get; init; }

    /// <summary>The disk, or the folder that is the root of an install.</summary>
    public required string Target { get; init; }

    /// <summary>Which volume of a disk; null for the one that holds Windows.</summary>
    public int? Volume { get; init; }

    /// <summary>How a disk is opened.</summary>
    public DiskReading Reading { get; init; } = DiskReading.Usual;

    /// <summary>Names of the accounts, as patterns; none for all, and for what was kept outside of profiles.</summary>
    public IReadOnlyList<string> Accounts { get; init; } = [];

    /// <summary>The hash of the root folder that the image has to have, so that it is the one that was meant; null for any.</summary>
    public string? Root { get; init; }
}
