using Vembar.Store.Hashing;

namespace Vembar.Windows.Servicing.Packages;

/// <summary>A piece of such content.</summary>
internal sealed record StoredPart(bool Hole, ChunkId Id, long Length);
