namespace Vembar.Operations.Stations.Contract;

/// <summary>Something that somebody did at a station, or tried to.</summary>
/// <param name="Sequence">Counts them.</param>
/// <param name="Time">When, UTC.</param>
/// <param name="Who">The token's name; empty for one who did not say.</param>
/// <param name="Address">From where.</param>
/// <param name="Action">A short stable word.</param>
/// <param name="Subject">What it was done to.</param>
/// <param name="Text">What, in a line.</param>
public sealed record AuditEntry(long Sequence, DateTime Time, string Who, string Address, string Action, string Subject, string Text);
