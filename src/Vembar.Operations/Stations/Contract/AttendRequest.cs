namespace Vembar.Operations.Stations.Contract;

/// <summary>Somebody signs in at the console of a machine.</summary>
/// <param name="Name">The name of their token; empty where the secret is the token itself.</param>
/// <param name="Secret">The token, or its PIN.</param>
public sealed record AttendRequest(string Name, string Secret);
