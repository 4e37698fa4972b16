namespace Vembar.Operations.Stations.Contract;

/// <summary>A machine wants to join.</summary>
/// <param name="Report">What it is.</param>
/// <param name="Key">The key that it was given before, where it still has it; null for a machine that starts anew.</param>
public sealed record JoinRequest(MachineReport Report, string? Key);
