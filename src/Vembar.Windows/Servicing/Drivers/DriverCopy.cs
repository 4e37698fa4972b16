namespace Vembar.Windows.Servicing.Drivers;

/// <summary>A file that an INF copies, removes or renames.</summary>
/// <param name="Source">Its path below the package's folder; for a file to rename its old path below the directory.</param>
/// <param name="DirectoryId">Where it goes: a directory id.</param>
/// <param name="Target">The path below that directory.</param>
public sealed record DriverCopy(string Source, string DirectoryId, string Target);
