using Vembar.Store.Compression;
using Vembar.Store.Places;

namespace Vembar.Operations.Drop;

/// <summary>Which archive to rewrite.</summary>
/// <param name="Archive">The archive.</param>
/// <param name="Effort">Compress everything anew; null takes blocks as they are where all of them is needed.</param>
/// <param name="MayCompact">Asked before, with what goes; null for yes.</param>
/// <param name="Wait">How long to wait for another writer.</param>
public sealed record CompactRequest(ArchiveLocation Archive, Effort? Effort, Func<CompactLoss, bool>? MayCompact, TimeSpan Wait);
