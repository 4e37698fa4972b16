using Vembar.Store.Places;

namespace Vembar.Operations.History;

/// <summary>Whose states to tell.</summary>
/// <param name="Archive">The archive.</param>
public sealed record HistoryRequest(ArchiveLocation Archive);
