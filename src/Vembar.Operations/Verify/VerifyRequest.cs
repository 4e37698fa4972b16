using Vembar.Operations.Sign;
using Vembar.Store.Places;

namespace Vembar.Operations.Verify;

/// <summary>Which archive to check.</summary>
/// <param name="Archive">The archive.</param>
/// <param name="SignedBy">Those of whom one has to have signed each image; null for nobody.</param>
public sealed record VerifyRequest(ArchiveLocation Archive, ImageTrust? SignedBy = null);
