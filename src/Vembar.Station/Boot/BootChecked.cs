namespace Vembar.Station.Boot;

/// <summary>What was looked at, of what machines need to start from the network.</summary>
/// <param name="Ok">Whether nothing is in the way.</param>
/// <param name="Findings">Each thing that was looked at.</param>
public sealed record BootChecked(bool Ok, IReadOnlyList<BootFinding> Findings);
