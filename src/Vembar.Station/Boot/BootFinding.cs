namespace Vembar.Station.Boot;

/// <summary>Something that was looked at, of what machines need to start from the network.</summary>
/// <param name="What">What was looked at.</param>
/// <param name="IsWell">Whether it is as it has to be.</param>
/// <param name="Found">What was found.</param>
/// <param name="Remedy">What to do; empty where it is well.</param>
public sealed record BootFinding(string What, bool IsWell, string Found, string Remedy);
