using Vembar.Windows.Registry;

namespace Vembar.Windows.Servicing.Drivers;

/// <summary>What an install section asks for, with all that it needs.</summary>
public sealed record InstallSection(string Name)
{
    /// <summary>Files to copy.</summary>
    public IReadOnlyList<DriverCopy> Copies { get; init; } = [];

    /// <summary>Files to remove.</summary>
    public IReadOnlyList<DriverCopy> Deletes { get; init; } = [];

    /// <summary>Files to rename.</summary>
    public IReadOnlyList<DriverCopy> Renames { get; init; } = [];

    /// <summary>Changes to the device's driver key.</summary>
    public IReadOnlyList<RegistryEdit> Edits { get; init; } = [];

    /// <summary>Changes to the device's hardware key.</summary>
    public IReadOnlyList<RegistryEdit> HardwareEdits { get; init; } = [];

    /// <summary>Services.</summary>
    public IReadOnlyList<DriverService> Services { get; init; } = [];

    /// <summary>Ids of components that it adds: packages of class SoftwareComponent serve them.</summary>
    public IReadOnlyList<string> Components { get; init; } = [];

    /// <summary>How well it fits beside other drivers, 0 (best) to 255.</summary>
    public int FeatureScore { get; init; } = 255;

    /// <summary>What it asks for that only a running Windows can do.</summary>
    public IReadOnlyList<string> LeftToWindows { get; init; } = [];
}
