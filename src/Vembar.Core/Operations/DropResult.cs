using Vembar.Core.Archives;

namespace Vembar.Core.Operations;

/// <summary>What dropping did.</summary>
/// <param name="Archive">The archive.</param>
/// <param name="Image">The image that went.</param>
/// <param name="Left">How many images are left.</param>
public sealed record DropResult(string Archive, ImageRecord Image, int Left);
