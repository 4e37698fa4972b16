using System.Runtime.InteropServices;

namespace Vembar.Native.Helpers;

/// <summary>What the thread of a helper program works on: memory outside of the managed heap, and the addresses of functions of the C
/// library.</summary>
[StructLayout(LayoutKind.Sequential)]
internal struct HelperState
{
    /// <summary>syscall(2).</summary>
    public nint SystemCall;

    /// <summary>posix_spawn(3).</summary>
    public nint Spawn;

    /// <summary>__errno_location of the C library.</summary>
    public nint ErrorPlace;

    /// <summary>The path of the program.</summary>
    public nint Path;

    /// <summary>The file actions of posix_spawn(3).</summary>
    public nint Actions;

    /// <summary>The attributes of posix_spawn(3).</summary>
    public nint Attributes;

    /// <summary>Its arguments, ended by a null.</summary>
    public nint Arguments;

    /// <summary>Its environment, ended by a null.</summary>
    public nint Environment;

    /// <summary>The rules of Landlock; -1 for none.</summary>
    public nint Rules;

    /// <summary>The filter of system calls (struct sock_fprog); null for none.</summary>
    public nint Filter;

    /// <summary>Whether it is confined.</summary>
    public nint IsConfined;

    /// <summary>The end of a pipe that gets a byte once the program runs, or could not be started.</summary>
    public nint Told;

    /// <summary>An error number; 0 once the program runs.</summary>
    public nint Error;

    /// <summary>The number of its process.</summary>
    public nint Process;

    /// <summary>The descriptor of its process (pidfd_open(2)); negative for none.</summary>
    public nint Handle;

    /// <summary>How it ended (wait4(2)); -1 when that cannot be told.</summary>
    public nint Status;

    /// <summary>Numbers of system calls: wait4, prctl, write.</summary>
    public nint WaitNumber;

    /// <summary>The number of prctl(2).</summary>
    public nint ControlNumber;

    /// <summary>The number of write(2).</summary>
    public nint WriteNumber;

    /// <summary>The number of getpid(2).</summary>
    public nint OwnNumber;
}
