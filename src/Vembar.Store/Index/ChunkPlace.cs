using Vembar.Store.Format;

namespace Vembar.Store.Index;

/// <summary>Where a chunk is: in which block, from which byte of the expanded block on, how long.</summary>
public readonly record struct ChunkPlace(BlockInfo Block, int Offset, int Length);
