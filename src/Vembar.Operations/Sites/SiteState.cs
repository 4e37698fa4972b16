using Vembar.Common;
using Vembar.Operations.Project;

namespace Vembar.Operations.Sites;

/// <summary>How a site stands beside the archive that it keeps copies of.</summary>
/// <param name="Site">The site.</param>
/// <param name="Images">What it has, name by name.</param>
/// <param name="Compared">When it was compared, UTC; null for never.</param>
/// <param name="Problem">Why it could not be compared now; null when it was.</param>
public sealed record SiteState(Site Site, IReadOnlyList<SiteImages> Images, DateTime? Compared, VembarException? Problem)
{
    /// <summary>Whether it was compared, and all is as it should be.</summary>
    public bool IsInOrder => Problem is null && Images.All(i => i.IsInOrder);
}
