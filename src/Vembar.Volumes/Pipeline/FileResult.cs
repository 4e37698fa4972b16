using Vembar.Images.Nodes;
using Vembar.Volumes.Sources;

namespace Vembar.Volumes.Pipeline;

/// <summary>What came of reading a file.</summary>
/// <param name="Node">The file.</param>
/// <param name="Content">Its content; null when it is not there any more, or cannot be read.</param>
/// <param name="Changed">Whether it changed while it was read, also at the last try.</param>
/// <param name="Unreadable">Why it cannot be read; null when it can.</param>
internal readonly record struct FileResult(SourceNode Node, FileContent? Content, bool Changed, string? Unreadable);
