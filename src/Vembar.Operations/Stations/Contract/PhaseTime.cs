namespace Vembar.Operations.Stations.Contract;

/// <summary>How long a part of a task took.</summary>
/// <param name="Phase">The part.</param>
/// <param name="Seconds">How long.</param>
public sealed record PhaseTime(string Phase, double Seconds);
