namespace Vembar.Operations.Stations.Contract;

/// <summary>An image that a station has.</summary>
/// <param name="Archive">The archive, by its name at the station.</param>
/// <param name="Number">The image's number in it.</param>
/// <param name="Name">Its name.</param>
/// <param name="Version">Its version; may be empty.</param>
/// <param name="Edition">Its edition; may be empty.</param>
/// <param name="Bytes">How much its files hold.</param>
/// <param name="Created">When it was made, UTC.</param>
/// <param name="Channels">Channels that point at it.</param>
/// <param name="IsOffered">Whether it is neither held nor retired.</param>
public sealed record StationImage(string Archive, int Number, string Name, string Version, string Edition, long Bytes, DateTime Created,
    IReadOnlyList<string> Channels, bool IsOffered);
