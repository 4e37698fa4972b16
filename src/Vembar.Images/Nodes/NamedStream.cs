namespace Vembar.Images.Nodes;

/// <summary>A named stream beside a file's main content.</summary>
public sealed record NamedStream(string Name, FileContent Content);
