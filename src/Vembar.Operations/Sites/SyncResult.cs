using Vembar.Common;
using Vembar.Operations.Project;

namespace Vembar.Operations.Sites;

/// <summary>What was done to a site.</summary>
/// <param name="Site">The site.</param>
/// <param name="Steps">What was done, or would be.</param>
/// <param name="Seconds">Time taken.</param>
/// <param name="Problem">Why it did not come to its end; null when it did.</param>
public sealed record SyncResult(Site Site, IReadOnlyList<SyncStep> Steps, double Seconds, VembarException? Problem);
