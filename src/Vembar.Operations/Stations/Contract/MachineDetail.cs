namespace Vembar.Operations.Stations.Contract;

/// <summary>All that a station knows of a machine.</summary>
/// <param name="Machine">Who and where it is.</param>
/// <param name="Report">What it said of itself; null when it was never seen.</param>
/// <param name="Drivers">Which driver each device would get from the image that is meant for it; empty while none is.</param>
/// <param name="Refusals">What is in the way of that image.</param>
/// <param name="Outcome">How its last task ended; null for none.</param>
public sealed record MachineDetail(MachineInfo Machine, MachineReport? Report, IReadOnlyList<DeviceDriver> Drivers,
    IReadOnlyList<Refusal> Refusals, TaskOutcome? Outcome);
