namespace Vembar.Operations.Stations.Contract;

/// <summary>Somebody at the console of a machine approves it.</summary>
/// <param name="Ticket">What the station gave for them.</param>
/// <param name="Approval">What the machine is to become.</param>
public sealed record AttendedApproval(string Ticket, Approval Approval);
