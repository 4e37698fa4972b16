namespace Vembar.Store.Places.Remote;

/// <summary>What became of a tail.</summary>
/// <param name="State">The state that the archive has now.</param>
public sealed record TailTaken(string State);
