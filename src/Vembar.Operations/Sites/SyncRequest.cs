using Vembar.Operations.Project;
using Vembar.Store.Places;

namespace Vembar.Operations.Sites;

/// <summary>Which sites to bring to what they should be.</summary>
/// <param name="Archive">The archive that they keep copies of.</param>
/// <param name="Sites">The sites.</param>
/// <param name="PlanOnly">Whether to tell only what would be done.</param>
/// <param name="Memory">The file that remembers when each was compared last; null for none.</param>
/// <param name="Wait">How long to wait for another writer.</param>
public sealed record SyncRequest(ArchiveLocation Archive, IReadOnlyList<Site> Sites, bool PlanOnly, string? Memory, TimeSpan Wait);
