using Vembar.Windows.Servicing.Drivers;

namespace Vembar.Operations.Drivers;

/// <summary>Which drivers are compared with which models.</summary>
/// <param name="Paths">Folders, INF files or packed files with packages; may be none.</param>
/// <param name="Image">An image whose drivers count too, and whose Windows they are for; null for the newest client.</param>
/// <param name="Architecture">The architecture when there is no image.</param>
/// <param name="Profiles">The models.</param>
/// <param name="Trust">Whose signatures count.</param>
public sealed record CoverageRequest(IReadOnlyList<string> Paths, ImageReference? Image, string Architecture,
    IReadOnlyList<HardwareProfile> Profiles, DriverTrust Trust);
