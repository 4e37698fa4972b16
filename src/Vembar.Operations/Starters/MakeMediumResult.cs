namespace Vembar.Operations.Starters;

/// <summary>A medium that was made.</summary>
/// <param name="Starter">The starter on it.</param>
/// <param name="Bytes">How long the file is.</param>
/// <param name="Images">Images that it carries.</param>
/// <param name="Sha256">The file's hash.</param>
/// <param name="Seconds">Time taken.</param>
public sealed record MakeMediumResult(Starter Starter, long Bytes, IReadOnlyList<string> Images, string Sha256, double Seconds);
