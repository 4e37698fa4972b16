namespace Vembar.Operations.Stations.Contract;

/// <summary>Somebody signed in at the console of a machine.</summary>
/// <param name="Ticket">What the machine says for them from now on, for some minutes.</param>
/// <param name="Caller">Who it is.</param>
/// <param name="Assignment">What the machine is meant to become.</param>
/// <param name="Images">The images that they may choose from.</param>
public sealed record AttendAnswer(string Ticket, Caller Caller, Assignment Assignment, IReadOnlyList<StationImage> Images);
