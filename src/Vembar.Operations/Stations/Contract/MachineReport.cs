namespace Vembar.Operations.Stations.Contract;

/// <summary>What a machine says of itself when it joins.</summary>
public sealed record MachineReport
{
    /// <summary>A station refuses more of them.</summary>
    public const int MostDevices = 1000, MostDisks = 64;

    /// <summary>Who it is.</summary>
    public required MachineIdentity Identity { get; init; }

    /// <summary>"uefi" or "bios".</summary>
    public string Firmware { get; init; } = "uefi";

    /// <summary>Whether the firmware starts signed programs alone.</summary>
    public bool SecureBoot { get; init; }

    /// <summary>"x64", "arm64" or "x86".</summary>
    public string Architecture { get; init; } = "x64";

    /// <summary>Memory in bytes.</summary>
    public long Memory { get; init; }

    /// <summary>The version of the starter that it runs; empty for none.</summary>
    public string Starter { get; init => field = value ?? ""; } = "";

    /// <summary>Its disks; the first is the one that an image goes to.</summary>
    public IReadOnlyList<ReportedDisk> Disks { get; init; } = [];

    /// <summary>Its devices.</summary>
    public IReadOnlyList<ReportedDevice> Devices { get; init; } = [];
}
