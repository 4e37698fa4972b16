namespace Vembar.Volumes.Targets;

/// <summary>A partition of a layout.</summary>
/// <param name="Role">What it is for.</param>
/// <param name="Bytes">Its size; null for what the others leave.</param>
/// <param name="Label">The label of its file system.</param>
public sealed record LayoutPartition(PartitionRole Role, long? Bytes, string Label);
