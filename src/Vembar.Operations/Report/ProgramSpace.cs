namespace Vembar.Operations.Report;

/// <summary>How much room a program takes.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Version">Its version.</param>
/// <param name="Publisher">Who publishes it.</param>
/// <param name="Bytes">Bytes.</param>
/// <param name="IsMeasured">Whether its folder was measured; otherwise its set-up estimated it.</param>
public sealed record ProgramSpace(string Name, string Version, string Publisher, long Bytes, bool IsMeasured);
