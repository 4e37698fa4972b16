namespace Vembar.Operations.Starters;

/// <summary>Which starter is looked at, for which machines.</summary>
/// <param name="Folder">The starter's folder.</param>
/// <param name="Profiles">Hardware profiles: files and folders.</param>
public sealed record CheckStarterRequest(string Folder, IReadOnlyList<string> Profiles);
