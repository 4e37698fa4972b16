using System.Buffers.Binary;
using System.IO.Hashing;
using Vembar.Core.Content;

namespace Vembar.Core.Archives;

/// <summary>Where a chunk is: in which block, from which byte of the expanded block on, how long.</summary>
public readonly record struct ChunkPlace(BlockInfo Block, int Offset, int Length);
