namespace Vembar.Operations.Starters;

/// <summary>A package that a starter was made of.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Version">Its version.</param>
/// <param name="Sha256">The hash of its file.</param>
public sealed record StarterPackage(string Name, string Version, string Sha256);
