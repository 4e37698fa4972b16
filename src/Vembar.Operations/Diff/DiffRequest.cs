namespace Vembar.Operations.Diff;

/// <summary>Which images to compare.</summary>
/// <param name="From">The one before.</param>
/// <param name="To">The one after.</param>
public sealed record DiffRequest(ImageReference From, ImageReference To);
