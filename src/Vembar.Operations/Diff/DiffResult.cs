using Vembar.Images.Records;

namespace Vembar.Operations.Diff;

/// <summary>What differs between two images.</summary>
/// <param name="From">The first.</param>
/// <param name="To">The second.</param>
/// <param name="Added">Paths only in the second; folders with all below them.</param>
/// <param name="Removed">Paths only in the first.</param>
/// <param name="Changed">Paths in both that differ.</param>
/// <param name="Registry">Registry values that differ; null when not both hold Windows.</param>
/// <param name="Programs">Programs; null when not both hold Windows.</param>
/// <param name="Drivers">Added drivers; null when not both hold Windows.</param>
/// <param name="Packages">Packages in use; null when not both hold Windows.</param>
/// <param name="Features">Features that are on; null when not both hold Windows.</param>
public sealed record DiffResult(
    ImageRecord From, ImageRecord To, IReadOnlyList<string> Added, IReadOnlyList<string> Removed, IReadOnlyList<ChangedPath> Changed,
    IReadOnlyList<ChangedValue>? Registry, ChangedNames? Programs, ChangedNames? Drivers, ChangedNames? Packages, ChangedNames? Features)
{
    /// <summary>True when nothing differs.</summary>
    public bool Same => Added.Count == 0 && Removed.Count == 0 && Changed.Count == 0;
}
