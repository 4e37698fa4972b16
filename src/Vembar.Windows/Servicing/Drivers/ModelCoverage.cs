namespace Vembar.Windows.Servicing.Drivers;

/// <summary>What the devices of a model would get.</summary>
/// <param name="Model">The model.</param>
/// <param name="Devices">Its devices, those without a driver first, boot-critical ones foremost.</param>
public sealed record ModelCoverage(string Model, IReadOnlyList<DeviceCoverage> Devices);
