using Vembar.Images.Records;

namespace Vembar.Operations.Drop;

/// <summary>What dropping did.</summary>
/// <param name="Archive">The archive.</param>
/// <param name="Image">The image that went.</param>
/// <param name="Left">How many images are left.</param>
public sealed record DropResult(string Archive, ImageRecord Image, int Left);
