namespace Vembar.Operations.Stations.Contract;

/// <summary>A token that was given out.</summary>
/// <param name="Name">Whose, or what for.</param>
/// <param name="Role">What it is good for.</param>
/// <param name="Created">When it was made, UTC.</param>
/// <param name="By">Who made it.</param>
/// <param name="Until">When it ends, UTC; null for never.</param>
/// <param name="Used">When it was last used, UTC; null for never.</param>
/// <param name="HasPin">Whether a PIN stands for it at the consoles of machines.</param>
public sealed record TokenInfo(string Name, Role Role, DateTime Created, string By, DateTime? Until, DateTime? Used, bool HasPin);
