using Vembar.Images.Records;

namespace Vembar.Operations.Mark;

/// <summary>What marking did.</summary>
/// <param name="Archive">The archive.</param>
/// <param name="Image">The image as it is now.</param>
/// <param name="Changes">What is other than before; empty when nothing was written.</param>
/// <param name="Warnings">What should be known.</param>
public sealed record MarkResult(string Archive, ImageRecord Image, IReadOnlyList<string> Changes, IReadOnlyList<string> Warnings);
