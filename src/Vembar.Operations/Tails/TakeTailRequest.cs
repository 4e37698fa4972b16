namespace Vembar.Operations.Tails;

/// <summary>A tail that has come whole, and the archive that it is for.</summary>
/// <param name="Archive">The archive's path; made where there is none.</param>
/// <param name="Tail">The file that holds the tail.</param>
/// <param name="After">The state that it was made for; empty for an archive that is not there.</param>
/// <param name="Replaces">Whether it is a whole archive, of the same id, that takes the place of the one that is there.</param>
/// <param name="AddsOnly">Whether it may add images alone: those that are there, and their channels, stay as they are.</param>
/// <param name="Wait">How long to wait for another writer.</param>
public sealed record TakeTailRequest(string Archive, string Tail, string After, bool Replaces, bool AddsOnly, TimeSpan Wait);
