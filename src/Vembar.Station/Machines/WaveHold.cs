using Vembar.Operations.Stations.Contract;

namespace Vembar.Station.Machines;

/// <summary>A machine that is approved for a wave.</summary>
/// <param name="Order">Where the wave is heard.</param>
/// <param name="IsHeld">Whether it waits until the wave begins.</param>
/// <param name="Remark">What it waits for.</param>
public sealed record WaveHold(WaveOrder Order, bool IsHeld, string Remark);
