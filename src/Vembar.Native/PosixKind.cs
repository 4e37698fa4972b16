namespace Vembar.Native;

/// <summary>The kinds of files that Linux knows.</summary>
public enum PosixKind
{
    /// <summary>An ordinary file.</summary>
    File,
    /// <summary>A folder.</summary>
    Folder,
    /// <summary>A symbolic link.</summary>
    Link,
    /// <summary>A block device.</summary>
    Disk,
    /// <summary>A pipe, a socket or another device.</summary>
    Special,
}
