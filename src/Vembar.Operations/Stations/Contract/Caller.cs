namespace Vembar.Operations.Stations.Contract;

/// <summary>Who asks, as the station sees it.</summary>
/// <param name="Name">The token's name.</param>
/// <param name="Role">What it is good for.</param>
public sealed record Caller(string Name, Role Role);
