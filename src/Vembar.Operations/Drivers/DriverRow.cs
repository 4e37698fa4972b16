using Vembar.Windows.Servicing.Drivers;

namespace Vembar.Operations.Drivers;

/// <summary>A driver package that was found, and how it stands.</summary>
public sealed record DriverRow
{
    /// <summary>The INF, and the zip file that it is in.</summary>
    public required string Path { get; init; }

    /// <summary>Why it cannot be used; empty when it can.</summary>
    public string Problem { get; init; } = "";

    /// <summary>The INF's own name; that of an image's package is published under another.</summary>
    public string Inf { get; init; } = "";

    /// <summary>Its class ("Net").</summary>
    public string Class { get; init; } = "";

    /// <summary>Who provides it.</summary>
    public string Provider { get; init; } = "";

    /// <summary>Its version.</summary>
    public string Version { get; init; } = "";

    /// <summary>Its date; null when it does not say.</summary>
    public DateOnly? Date { get; init; }

    /// <summary>x86, amd64, arm64.</summary>
    public IReadOnlyList<string> Architectures { get; init; } = [];

    /// <summary>How many devices it serves.</summary>
    public int Devices { get; init; }

    /// <summary>The devices with their ids, hardware id first.</summary>
    public IReadOnlyList<(string Description, IReadOnlyList<string> Ids)> DeviceList { get; init; } = [];

    /// <summary>Whether it is for no device, but a filter or a service that is installed by itself.</summary>
    public bool IsPrimitive { get; init; }

    /// <summary>Whether Windows needs it to start.</summary>
    public bool BootCritical { get; init; }

    /// <summary>Its signature; null when it could not be looked at.</summary>
    public DriverSignature? Signature { get; init; }

    /// <summary>Files that its INF names and that are not there.</summary>
    public IReadOnlyList<string> MissingFiles { get; init; } = [];

    /// <summary>The package, found before, that is the same; empty when there is none.</summary>
    public string SameAs { get; init; } = "";

    /// <summary>The package that has a newer version of it; empty when there is none.</summary>
    public string OlderThan { get; init; } = "";

    /// <summary>What it asks for that only a running Windows can do.</summary>
    public IReadOnlyList<string> LeftToWindows { get; init; } = [];

    /// <summary>Bytes of its files.</summary>
    public long Bytes { get; init; }
}
