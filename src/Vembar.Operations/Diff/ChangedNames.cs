namespace Vembar.Operations.Diff;

/// <summary>Names that one image has and the other lacks.</summary>
/// <param name="Added">Only in the second.</param>
/// <param name="Removed">Only in the first.</param>
public sealed record ChangedNames(IReadOnlyList<string> Added, IReadOnlyList<string> Removed);
