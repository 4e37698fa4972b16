namespace Vembar.Operations.History;

/// <summary>Which state to go back to.</summary>
/// <param name="Archive">The archive.</param>
/// <param name="State">The state's number.</param>
/// <param name="Wait">How long to wait for another writer.</param>
public sealed record RewindRequest(string Archive, long State, TimeSpan Wait);
