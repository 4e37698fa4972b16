using Vembar.Store.Places;

namespace Vembar.Operations.Verify;

/// <summary>Which archive to check.</summary>
/// <param name="Archive">The archive.</param>
public sealed record VerifyRequest(ArchiveLocation Archive);
