namespace Vembar.Volumes.Disks;

/// <summary>The mark of a disk that is being written, before its first partition: what is on it is not whole. docs/disk-layout.md, "While
/// it is written".</summary>
internal static class UnfinishedMark
{
    /// <summary>Where it stands, in bytes from the beginning of the disk.</summary>
    public const int Place = 64 << 10;

    /// <summary>What it begins with.</summary>
    public static ReadOnlySpan<byte> Magic => "VMBNOTE1"u8;

    /// <summary>Whether a disk has it.</summary>
    /// <param name="disk">The disk; divided into partitions.</param>
    /// <exception cref="Native.NativeException">It cannot be read.</exception>
    public static bool IsOn(IBlockDevice disk)
    {
        Span<byte> bytes = stackalloc byte[8];
        return disk.Length > Place + bytes.Length && disk.Read(bytes, Place) == bytes.Length && bytes.SequenceEqual(Magic);
    }
}
