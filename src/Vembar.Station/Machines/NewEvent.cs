namespace Vembar.Station.Machines;

/// <summary>Something that happened to a machine, before it has its number.</summary>
/// <param name="Kind">A short stable word.</param>
/// <param name="Level">"info", "warning" or "error".</param>
/// <param name="Text">What, in a line.</param>
/// <param name="Who">Who did it; empty for the machine itself.</param>
/// <param name="Source">What makes it the same event when it comes again; null where that cannot happen.</param>
public sealed record NewEvent(string Kind, string Level, string Text, string Who = "", string? Source = null);
