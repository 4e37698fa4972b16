using Vembar.Windows.Servicing.Drivers;

namespace Vembar.Operations.Drivers;

/// <summary>Which drivers to look at.</summary>
/// <param name="Paths">Folders, INF files or packed files.</param>
/// <param name="Image">An image whose added drivers are listed too; may be null.</param>
/// <param name="Trust">Whose signatures count.</param>
public sealed record DriversRequest(IReadOnlyList<string> Paths, ImageReference? Image, DriverTrust Trust);
