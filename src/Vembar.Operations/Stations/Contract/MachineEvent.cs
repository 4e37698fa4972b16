namespace Vembar.Operations.Stations.Contract;

/// <summary>Something that happened to a machine.</summary>
/// <param name="Sequence">Counts the events of all machines.</param>
/// <param name="Machine">Which.</param>
/// <param name="Time">When, by the station's clock, UTC.</param>
/// <param name="Kind">A short stable word: "joined", "approved", "log", …</param>
/// <param name="Level">"info", "warning" or "error".</param>
/// <param name="Text">What, in a line.</param>
/// <param name="Who">Who did it; empty for the machine itself.</param>
public sealed record MachineEvent(long Sequence, string Machine, DateTime Time, string Kind, string Level, string Text, string Who);
