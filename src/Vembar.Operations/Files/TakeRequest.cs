namespace Vembar.Operations.Files;

/// <summary>Which files to take out of an image.</summary>
/// <param name="Image">The image.</param>
/// <param name="Paths">Files, folders and patterns.</param>
/// <param name="To">The folder that they go into.</param>
public sealed record TakeRequest(ImageReference Image, IReadOnlyList<string> Paths, string To);
