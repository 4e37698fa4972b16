namespace Vembar.Volumes.Disks;

/// <summary>A partition.</summary>
/// <param name="Number">From 1 on, as Linux counts: entries of a GPT, 1 to 4 and then logical ones of an MBR.</param>
/// <param name="Start">Its first byte on the disk.</param>
/// <param name="Length">Its length in bytes.</param>
/// <param name="Type">GPT: its type; empty for an MBR.</param>
/// <param name="Id">GPT: its own GUID; empty for an MBR.</param>
/// <param name="Name">GPT: its name.</param>
/// <param name="MbrType">MBR: its type; 0 for a GPT.</param>
/// <param name="IsActive">MBR: whether it is the one to start from.</param>
public sealed record Partition(int Number, long Start, long Length, Guid Type, Guid Id, string Name, byte MbrType, bool IsActive);
