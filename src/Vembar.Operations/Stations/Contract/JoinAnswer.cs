namespace Vembar.Operations.Stations.Contract;

/// <summary>A machine has joined.</summary>
/// <param name="Machine">What the station calls it.</param>
/// <param name="Key">What it says from now on who it is with; good for this machine alone.</param>
/// <param name="Model">The hardware model that the station takes it for; empty where it knows none.</param>
/// <param name="Devices">The machine's devices, with what the model's profile says of them.</param>
/// <param name="Stations">Addresses of stations that know it as well, this one among them.</param>
public sealed record JoinAnswer(string Machine, string Key, string Model, IReadOnlyList<ReportedDevice> Devices,
    IReadOnlyList<string> Stations);
