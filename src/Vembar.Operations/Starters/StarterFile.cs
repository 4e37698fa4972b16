namespace Vembar.Operations.Starters;

/// <summary>A file of a starter.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Bytes">How long it is.</param>
/// <param name="Sha256">Its hash.</param>
public sealed record StarterFile(string Name, long Bytes, string Sha256);
