using Vembar.Images.Records;
using Vembar.Volumes.Sources;

namespace Vembar.Operations.Capture;

/// <summary>What a capture did.</summary>
/// <param name="Archive">The archive.</param>
/// <param name="Image">The image as recorded.</param>
/// <param name="Stats">Figures.</param>
/// <param name="Excluded">What was left out.</param>
/// <param name="Warnings">What should be known.</param>
public sealed record CaptureResult(string Archive, ImageRecord Image, StoreStats Stats, IReadOnlyList<ExcludedEntry> Excluded,
    IReadOnlyList<string> Warnings);
