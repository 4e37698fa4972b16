using System.Runtime.InteropServices;

namespace Vembar.Native.Helpers;

/// <summary>What a program may do that reads foreign data: it reads programs and libraries of the system, and the files that it is given
/// here. It makes no file and has no network. Landlock (kernel documentation, userspace-api/landlock) and seccomp(2) see to it; without
/// Landlock in the kernel, seccomp alone.</summary>
/// <param name="Readable">Open files that it may open for reading.</param>
/// <param name="Writable">Open files that it may open for reading and writing.</param>
public sealed record Confinement(IReadOnlyList<SafeHandle> Readable, IReadOnlyList<SafeHandle> Writable)
{
    /// <summary>Places of the system that it may read, with all below them.</summary>
    internal static IReadOnlyList<string> SystemPlaces { get; } =
        ["/usr", "/lib", "/lib64", "/bin", "/sbin", "/etc/ld.so.cache", "/etc/ld.so.preload", "/proc", "/dev/null", "/dev/zero",
        "/dev/urandom",
            "/sys/devices/system"];

    /// <summary>The most memory that it may ask for, in KiB of addresses.</summary>
    public const int MostMemory = 2 << 20;
}
