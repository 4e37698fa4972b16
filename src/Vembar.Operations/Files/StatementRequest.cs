namespace Vembar.Operations.Files;

/// <summary>Whose statement and signatures to hand out.</summary>
/// <param name="Image">The image.</param>
/// <param name="To">The folder they go into; made when there is none.</param>
public sealed record StatementRequest(ImageReference Image, string To);
