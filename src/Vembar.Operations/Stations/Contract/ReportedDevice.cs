namespace Vembar.Operations.Stations.Contract;

/// <summary>A device of a machine.</summary>
/// <param name="Name">What people call it.</param>
/// <param name="HardwareIds">Its hardware ids, the most exact first.</param>
/// <param name="CompatibleIds">Its compatible ids, the most exact first.</param>
/// <param name="Needed">Whether the machine is of no use without a driver for it.</param>
/// <param name="Boot">Whether Windows needs it to reach its disk.</param>
public sealed record ReportedDevice(string Name, IReadOnlyList<string> HardwareIds, IReadOnlyList<string> CompatibleIds, bool Needed,
    bool Boot);
