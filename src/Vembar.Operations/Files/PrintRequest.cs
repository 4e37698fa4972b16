namespace Vembar.Operations.Files;

/// <summary>Which file of an image to print.</summary>
/// <param name="Image">The image.</param>
/// <param name="Path">The file.</param>
/// <param name="To">Where its content goes.</param>
public sealed record PrintRequest(ImageReference Image, string Path, Stream To);
