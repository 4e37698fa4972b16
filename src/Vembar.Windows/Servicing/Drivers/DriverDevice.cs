namespace Vembar.Windows.Servicing.Drivers;

/// <summary>A device that a package has a driver for.</summary>
/// <param name="Description">The device's name.</param>
/// <param name="Manufacturer">Who made it.</param>
/// <param name="InstallSection">The section that installs it, with its decoration.</param>
/// <param name="Ids">Hardware id first, then compatible ids.</param>
public sealed record DriverDevice(string Description, string Manufacturer, string InstallSection, IReadOnlyList<string> Ids);
