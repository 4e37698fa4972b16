namespace Vembar.Volumes.Targets;

/// <summary>A volume that was written.</summary>
/// <param name="Number">Its number on the disk.</param>
/// <param name="Role">What it is for.</param>
/// <param name="Start">Its first byte.</param>
/// <param name="Bytes">Its length.</param>
/// <param name="FileSystem">What it was formatted with; empty for none.</param>
/// <param name="Label">Its label.</param>
public sealed record WrittenVolume(int Number, string Role, long Start, long Bytes, string FileSystem, string Label);
