namespace Vembar.Operations.Files;

/// <summary>What was taken out.</summary>
/// <param name="Files">How many files and links.</param>
/// <param name="Bytes">How many bytes.</param>
/// <param name="Paths">What was taken, at the top.</param>
/// <param name="Warnings">What should be known.</param>
public sealed record TakeResult(long Files, long Bytes, IReadOnlyList<string> Paths, IReadOnlyList<string> Warnings);
