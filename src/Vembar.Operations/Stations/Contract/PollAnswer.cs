namespace Vembar.Operations.Stations.Contract;

/// <summary>What a machine that asks is told.</summary>
/// <param name="State">Its state.</param>
/// <param name="Waiting">What it waits for, for its console; empty for nothing.</param>
/// <param name="Task">What it is to do; null for nothing yet.</param>
/// <param name="Stations">Addresses of all stations that it can turn to.</param>
public sealed record PollAnswer(MachineState State, string Waiting, MachineTask? Task, IReadOnlyList<string> Stations);
