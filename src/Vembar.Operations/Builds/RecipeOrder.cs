namespace Vembar.Operations.Builds;

/// <summary>A work order that a recipe has done.</summary>
/// <param name="File">The order.</param>
/// <param name="Variables">Texts for its variables.</param>
public sealed record RecipeOrder(string File, IReadOnlyDictionary<string, string> Variables);
