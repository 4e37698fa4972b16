namespace Vembar.Operations.Starters;

/// <summary>A starter that was made.</summary>
/// <param name="Starter">It.</param>
/// <param name="Bytes">How long its files are together.</param>
/// <param name="Warnings">What should be known.</param>
/// <param name="Seconds">Time taken.</param>
public sealed record MakeStarterResult(Starter Starter, long Bytes, IReadOnlyList<string> Warnings, double Seconds);
