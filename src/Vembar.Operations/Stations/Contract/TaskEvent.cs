namespace Vembar.Operations.Stations.Contract;

/// <summary>Something that happened at a machine while it was at its task.</summary>
/// <param name="Number">Its number within the task, from 1 on; the same number is the same event.</param>
/// <param name="Time">When, by the machine's clock, UTC.</param>
/// <param name="Level">"info", "warning" or "error".</param>
/// <param name="Text">What, in a line.</param>
public sealed record TaskEvent(int Number, DateTime Time, string Level, string Text);
