namespace Vembar.Windows.Servicing.Drivers;

/// <summary>How drivers are let into an image.</summary>
public sealed record DriverOptions
{
    /// <summary>Whose signatures count.</summary>
    public DriverTrust Trust { get; init; } = DriverTrust.Nobody;

    /// <summary>Whether packages without a good signature are let in, and marked.</summary>
    public bool AllowUnsigned { get; init; }

    /// <summary>Whether older versions of the same driver are taken out of the image.</summary>
    public bool ReplaceOlder { get; init; }

    /// <summary>Whether all versions of a driver are wanted, and not the newest alone.</summary>
    public bool EveryVersion { get; init; }

    /// <summary>The models to serve; empty for every device.</summary>
    public IReadOnlyList<HardwareProfile> For { get; init; } = [];
}
