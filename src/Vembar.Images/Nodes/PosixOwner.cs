namespace Vembar.Images.Nodes;

/// <summary>Owner and permissions on Linux.</summary>
/// <param name="Mode">The twelve permission bits.</param>
/// <param name="Uid">The owner's number.</param>
/// <param name="Gid">The group's number.</param>
public readonly record struct PosixOwner(uint Mode, uint Uid, uint Gid);
