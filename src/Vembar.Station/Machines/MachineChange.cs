namespace Vembar.Station.Machines;

/// <summary>What becomes of a machine.</summary>
/// <param name="Row">How it is from now on.</param>
/// <param name="Events">What is noted of it.</param>
public sealed record MachineChange(MachineRow Row, params IReadOnlyList<NewEvent> Events);
