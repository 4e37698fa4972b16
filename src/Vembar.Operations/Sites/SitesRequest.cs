using Vembar.Operations.Project;
using Vembar.Store.Places;

namespace Vembar.Operations.Sites;

/// <summary>Which sites to compare, and with what.</summary>
/// <param name="Archive">The archive that they keep copies of.</param>
/// <param name="Sites">The sites.</param>
/// <param name="Verify">Whether each is read whole, and every byte checked.</param>
/// <param name="Memory">The file that remembers when each was compared last; null for none.</param>
public sealed record SitesRequest(ArchiveLocation Archive, IReadOnlyList<Site> Sites, bool Verify, string? Memory);
