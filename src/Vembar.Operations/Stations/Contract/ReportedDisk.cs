namespace Vembar.Operations.Stations.Contract;

/// <summary>A disk of a machine.</summary>
/// <param name="Path">What it is called there.</param>
/// <param name="Bytes">How much it holds.</param>
/// <param name="Model">The vendor's name of it; may be empty.</param>
/// <param name="Contents">What is on it, a line each.</param>
public sealed record ReportedDisk(string Path, long Bytes, string Model, IReadOnlyList<string> Contents);
