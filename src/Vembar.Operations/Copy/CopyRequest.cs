using Vembar.Store.Places;

namespace Vembar.Operations.Copy;

/// <summary>Which image to copy, and where to.</summary>
/// <param name="Image">The image.</param>
/// <param name="To">The archive; made when there is none.</param>
/// <param name="Name">The name there; null for the same.</param>
/// <param name="Version">The version there; null for its own, or the next one where that is taken.</param>
/// <param name="Wait">How long to wait for another writer.</param>
public sealed record CopyRequest(ImageReference Image, ArchiveLocation To, string? Name, string? Version, TimeSpan Wait)
{
    /// <summary>The number of the image there whose place it takes: one of the same name and version; null for none.</summary>
    public int? Replace { get; init; }

    /// <summary>An archive whose content a new archive does not store again; null for an archive that stands alone.</summary>
    public string? BasedOn { get; init; }
}
