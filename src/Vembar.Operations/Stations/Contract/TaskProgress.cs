namespace Vembar.Operations.Stations.Contract;

/// <summary>How far a machine is with its task.</summary>
/// <param name="Phase">What it does now.</param>
/// <param name="Done">How much, in bytes or things.</param>
/// <param name="Total">Of how much; 0 when that is not known.</param>
/// <param name="InBytes">Whether the numbers are bytes.</param>
/// <param name="BytesPerSecond">How fast; 0 when that is not known.</param>
/// <param name="SecondsLeft">How long it will take; negative when that is not known.</param>
public sealed record TaskProgress(string Phase, long Done, long Total, bool InBytes, double BytesPerSecond, double SecondsLeft);
