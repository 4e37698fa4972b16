namespace Vembar.Operations.Diff;

/// <summary>A path that both images have, and in what it differs.</summary>
/// <param name="Path">The path.</param>
/// <param name="What">content, size, time, attributes, security, streams, kind, owner, other.</param>
public sealed record ChangedPath(string Path, IReadOnlyList<string> What);
