using Vembar.Store.Places;

namespace Vembar.Operations.Verify;

/// <summary>Which archive to heal, and from what.</summary>
/// <param name="Archive">The archive.</param>
/// <param name="From">Archives to take good content from; records of states and indexes come from copies of the archive itself.</param>
/// <param name="Wait">How long to wait for another writer.</param>
public sealed record RepairRequest(ArchiveLocation Archive, IReadOnlyList<string> From, TimeSpan Wait);
