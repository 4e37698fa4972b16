namespace Vembar.Volumes.Sources;

/// <summary>A path that was left out, and why.</summary>
/// <param name="Path">The path from the source's root.</param>
/// <param name="Rule">The pattern that left it out, or the reason.</param>
public sealed record ExcludedEntry(string Path, string Rule);
