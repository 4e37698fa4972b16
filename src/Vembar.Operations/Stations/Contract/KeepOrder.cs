namespace Vembar.Operations.Stations.Contract;

/// <summary>A machine is to keep the files of its users: they go to the station before its disk is divided, and back onto it
/// afterwards.</summary>
/// <param name="Archive">The archive for them at the station, as the part of an address behind the station's.</param>
/// <param name="Machine">What the machine is called there.</param>
/// <param name="Rules">What is kept, as a file of rules; null for what is usual.</param>
/// <param name="Kept">What the station has of it already and is not back on the disk, the oldest first.</param>
public sealed record KeepOrder(string Archive, string Machine, string? Rules, IReadOnlyList<KeptImage> Kept);
