using Vembar.Core.Compaction;
using Vembar.Core.Content;

namespace Vembar.Core.Trees;

/// <summary>A named stream beside a file's main content.</summary>
public sealed record NamedStream(string Name, FileContent Content);
