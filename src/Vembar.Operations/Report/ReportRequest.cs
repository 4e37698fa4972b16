using Vembar.Store.Places;

namespace Vembar.Operations.Report;

/// <summary>What to report on.</summary>
/// <param name="Archive">The archive.</param>
/// <param name="SpaceOf">Of which image the space is told by folder and program; null for the newest that holds Windows.</param>
public sealed record ReportRequest(ArchiveLocation Archive, string? SpaceOf = null);
