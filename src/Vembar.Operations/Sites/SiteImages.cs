namespace Vembar.Operations.Sites;

/// <summary>What a site has of the images of one name.</summary>
/// <param name="Name">The name.</param>
/// <param name="There">Versions that are there and should be.</param>
/// <param name="Missing">Versions that should be there.</param>
/// <param name="Extra">Versions that are there and need not be.</param>
/// <param name="Differing">Versions that are there with another content.</param>
/// <param name="Damaged">What of it cannot be read there.</param>
/// <param name="Marks">Versions whose marks or channels are other than they should be.</param>
public sealed record SiteImages(string Name, IReadOnlyList<string> There, IReadOnlyList<string> Missing, IReadOnlyList<string> Extra,
    IReadOnlyList<string> Differing, IReadOnlyList<string> Damaged, IReadOnlyList<string> Marks)
{
    /// <summary>Whether all is as it should be.</summary>
    public bool IsInOrder => Missing.Count + Extra.Count + Differing.Count + Damaged.Count + Marks.Count == 0;
}
