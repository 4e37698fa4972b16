using Vembar.Core.Compaction;
using Vembar.Core.Content;

namespace Vembar.Core.Trees;

/// <summary>A stream that is yet to be stored: its bytes, or where they are read from.</summary>
internal sealed record PendingStream(string Name, byte[]? Bytes, Func<Sources.ISourceFile>? Open = null);
