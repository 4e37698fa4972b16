namespace Vembar.Operations.Stations.Contract;

/// <summary>Somebody wants a token made.</summary>
/// <param name="Name">Whose, or what for.</param>
/// <param name="Role">What it is good for.</param>
/// <param name="Until">When it ends, UTC; null for never.</param>
/// <param name="WithPin">Whether a PIN is made for it, for the consoles of machines.</param>
public sealed record TokenOrder(string Name, Role Role, DateTime? Until, bool WithPin);
