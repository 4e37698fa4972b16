using Vembar.Common;

namespace Vembar.Operations;

/// <summary>Something that is damaged.</summary>
/// <param name="Image">The image's number; 0 when no image is touched.</param>
/// <param name="Path">The path in the image; empty when no file is touched.</param>
/// <param name="Problem">What is wrong.</param>
public sealed record Damage(int Image, string Path, string Problem)
{
    /// <summary>What would help, which the program puts into words; null for nothing.</summary>
    public Advice? Advice { get; init; }
}
