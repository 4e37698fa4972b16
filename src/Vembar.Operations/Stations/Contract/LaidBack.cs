namespace Vembar.Operations.Stations.Contract;

/// <summary>Where the files of a user went on a machine's new install.</summary>
/// <param name="Account">The account.</param>
/// <param name="To">The folder.</param>
/// <param name="IsProfile">Whether the account goes on with it as its profile.</param>
/// <param name="Files">Files.</param>
/// <param name="Bytes">Bytes of these.</param>
public sealed record LaidBack(string Account, string To, bool IsProfile, long Files, long Bytes);
