namespace Vembar.Operations.Stations.Contract;

/// <summary>Somebody wants a machine's disk captured.</summary>
/// <param name="Name">The new image's name.</param>
/// <param name="Archive">The station's archive; null for the first.</param>
/// <param name="Edition">Its edition.</param>
/// <param name="Version">Its version; null for the next.</param>
/// <param name="AcceptUnready">Whether it is captured although it is not ready.</param>
public sealed record CaptureOrder(string Name, string? Archive, string? Edition, string? Version, bool AcceptUnready);
