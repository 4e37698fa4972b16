namespace Vembar.Operations.Builds;

/// <summary>How many paths of a folder differ.</summary>
/// <param name="Folder">The folder; empty for the root.</param>
/// <param name="Added">How many are new.</param>
/// <param name="Removed">How many are gone.</param>
/// <param name="Changed">How many differ.</param>
public sealed record ChangedFolder(string Folder, int Added, int Removed, int Changed);
