namespace Vembar.Operations.Builds;

/// <summary>Who signs what a recipe makes.</summary>
/// <param name="Key">The key, a PEM file.</param>
/// <param name="Certificate">The certificate, a PEM file.</param>
public sealed record RecipeSignature(string Key, string Certificate);
