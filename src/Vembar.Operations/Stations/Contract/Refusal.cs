namespace Vembar.Operations.Stations.Contract;

/// <summary>Why a machine cannot get an image.</summary>
/// <param name="Code">A short stable word, by which it may be set aside.</param>
/// <param name="Text">What is in the way, in a line.</param>
/// <param name="CanBeAccepted">Whether an administrator may set it aside.</param>
public sealed record Refusal(string Code, string Text, bool CanBeAccepted);
