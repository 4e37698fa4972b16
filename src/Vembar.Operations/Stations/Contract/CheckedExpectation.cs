namespace Vembar.Operations.Stations.Contract;

/// <summary>Something that was expected of a machine.</summary>
/// <param name="Text">What.</param>
/// <param name="Severity">"stop", "warn" or "note".</param>
/// <param name="IsSo">Whether it is so.</param>
/// <param name="Found">What was found instead; may be empty.</param>
public sealed record CheckedExpectation(string Text, string Severity, bool IsSo, string Found);
