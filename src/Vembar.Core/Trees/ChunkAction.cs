using System.IO.Hashing;
using Vembar.Core.Archives;
using Vembar.Core.Compaction;
using Vembar.Core.Content;

namespace Vembar.Core.Trees;

/// <summary>Something done with a chunk's bytes.</summary>
public delegate void ChunkAction(ReadOnlySpan<byte> bytes);
