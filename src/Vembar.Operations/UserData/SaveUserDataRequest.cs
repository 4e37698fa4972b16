using Vembar.Store.Compression;
using Vembar.Store.Places;
using Vembar.Volumes.Disks;
using Vembar.Windows.UserData;

namespace Vembar.Operations.UserData;

/// <summary>Whose files to keep, and where.</summary>
public sealed record SaveUserDataRequest
{
    /// <summary>The folder that is the root of the install, or the disk that it is on.</summary>
    public required string Source { get; init; }

    /// <summary>Which volume of a disk; null for the one that holds Windows.</summary>
    public int? Volume { get; init; }

    /// <summary>How a disk is opened.</summary>
    public DiskReading Reading { get; init; } = DiskReading.Usual;

    /// <summary>The archive; made when there is none.</summary>
    public required ArchiveLocation Archive { get; init; }

    /// <summary>The machine that they are of: the image's name.</summary>
    public required string Machine { get; init; }

    /// <summary>What is kept.</summary>
    public required KeepRules Rules { get; init; }

    /// <summary>Names of the accounts, as patterns; none for all.</summary>
    public IReadOnlyList<string> Accounts { get; init; } = [];

    /// <summary>Whether files that cannot be read are left out and told, instead of failing.</summary>
    public bool SkipUnreadable { get; init; }

    /// <summary>Whether an install is read that was not shut down fully.</summary>
    public bool AcceptOpen { get; init; }

    /// <summary>How hard to compress.</summary>
    public Effort Effort { get; init; } = Effort.Balanced;

    /// <summary>How long to wait for another writer.</summary>
    public TimeSpan Wait { get; init; }
}
