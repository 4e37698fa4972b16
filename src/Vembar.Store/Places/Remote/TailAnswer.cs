namespace Vembar.Store.Places.Remote;

/// <summary>What a station says to an offer.</summary>
/// <param name="Id">What it calls it.</param>
/// <param name="Missing">Parts that it does not have yet, by their numbers from 0 on.</param>
public sealed record TailAnswer(string Id, IReadOnlyList<int> Missing);
