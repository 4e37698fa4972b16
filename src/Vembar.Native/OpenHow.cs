using System.Runtime.InteropServices;

namespace Vembar.Native;

/// <summary>How a path is opened (struct open_how of openat2(2)).</summary>
[StructLayout(LayoutKind.Sequential)]
internal struct OpenHow
{
    /// <summary>No symbolic link of /proc is followed on the way.</summary>
    public const ulong NoMagicLinks = 0x02;

    /// <summary>No symbolic link is followed on the way.</summary>
    public const ulong NoSymbolicLinks = 0x04;

    /// <summary>The way does not lead out of the folder that it begins in.</summary>
    public const ulong Beneath = 0x08;

    /// <summary>As of openat.</summary>
    public ulong Flags;

    /// <summary>As of openat.</summary>
    public ulong Mode;

    /// <summary>What is not done on the way.</summary>
    public ulong Resolve;
}
