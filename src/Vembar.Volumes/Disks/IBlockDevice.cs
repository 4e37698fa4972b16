using Vembar.Native;

namespace Vembar.Volumes.Disks;

/// <summary>A disk, a partition or a file that holds one, as bytes by offset. One thread at a time.</summary>
public interface IBlockDevice : INtfsDevice, IDisposable
{
    /// <summary>What it is, for messages.</summary>
    string DisplayName { get; }

    /// <summary>Whether it may be written.</summary>
    bool MayWrite { get; }
}
