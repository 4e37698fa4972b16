namespace Vembar.Windows.Servicing.Drivers;

/// <summary>A device of a hardware model.</summary>
/// <param name="Name">What people call it.</param>
/// <param name="HardwareIds">Its hardware ids, the most exact first.</param>
/// <param name="CompatibleIds">Its compatible ids, the most exact first.</param>
/// <param name="Needed">Whether a model without a driver for it is not in order.</param>
/// <param name="Boot">Whether Windows needs it to reach its own disk.</param>
public sealed record HardwareDevice(string Name, IReadOnlyList<string> HardwareIds, IReadOnlyList<string> CompatibleIds, bool Needed,
    bool Boot);
