namespace Vembar.Operations.Stations.Contract;

/// <summary>Which driver a device gets.</summary>
/// <param name="Device">The device.</param>
/// <param name="Driver">The driver, with its version; empty for none.</param>
/// <param name="Needed">Whether the machine is of no use without one.</param>
public sealed record DeviceDriver(string Device, string Driver, bool Needed);
