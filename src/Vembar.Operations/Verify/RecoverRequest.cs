using Vembar.Store.Places;

namespace Vembar.Operations.Verify;

/// <summary>Which archive to recover from.</summary>
/// <param name="Archive">The damaged archive; it is only read. What it took from a base is put into the new archive too, where the base
/// is found.</param>
/// <param name="To">The new archive; must not be there.</param>
public sealed record RecoverRequest(ArchiveLocation Archive, string To);
