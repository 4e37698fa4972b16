namespace Vembar.Operations.UserData;

/// <summary>Where the files of an account were put.</summary>
/// <param name="Name">The account.</param>
/// <param name="Sid">Its security identifier; empty where none was known.</param>
/// <param name="To">The folder, as a path on the volume.</param>
/// <param name="IsProfile">Whether it is the account's profile: it goes on with it at its next sign-in.</param>
/// <param name="Files">Files.</param>
/// <param name="Bytes">Bytes of these.</param>
public sealed record LaidAccount(string Name, string Sid, string To, bool IsProfile, long Files, long Bytes);
