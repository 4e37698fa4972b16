using Vembar.Images.Nodes;
using Vembar.Images.Paths;

namespace Vembar.Operations.Files;

/// <summary>An entry with its path.</summary>
public sealed record FoundEntry(WindowsPath Path, TreeEntry Entry);
