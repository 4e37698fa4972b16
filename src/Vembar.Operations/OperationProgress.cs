namespace Vembar.Operations;

/// <summary>How far a long operation is.</summary>
/// <param name="Phase">What is being done, as a short phrase ("reading", "writing files").</param>
/// <param name="Done">How much, in the unit below.</param>
/// <param name="Total">Of how much; 0 when that is not known yet.</param>
/// <param name="InBytes">Whether the numbers are bytes (true) or things (false).</param>
/// <param name="Current">The file at hand; may be empty.</param>
public readonly record struct OperationProgress(string Phase, long Done, long Total, bool InBytes, string Current);
