namespace Vembar.Native;

/// <summary>What statx(2) says of a file.</summary>
public readonly record struct PosixStat(
    PosixKind Kind, uint Mode, uint LinkCount, uint Uid, uint Gid, ulong Device, ulong Inode, long Size, long Allocated,
    PosixTime Modified, PosixTime Changed);
