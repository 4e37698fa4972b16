namespace Vembar.Native;

/// <summary>The error numbers of Linux that callers tell apart (asm-generic/errno.h; equal on x64 and arm64).</summary>
public static class Errno
{
    /// <summary>A pipe, a socket or a device where a file is wanted; a number of our own.</summary>
    public const int NotAFile = -2;

    internal static string Message(int errno) =>
        errno == NotAFile ? "it is a pipe, a socket or a device" : System.Runtime.InteropServices.Marshal.GetPInvokeErrorMessage(errno);

    /// <summary>Operation not permitted.</summary>
    public const int NotPermitted = 1;

    /// <summary>No such file or folder.</summary>
    public const int NotFound = 2;

    /// <summary>The device failed, or what it holds is damaged.</summary>
    public const int InputOutput = 5;

    /// <summary>Permission denied.</summary>
    public const int AccessDenied = 13;

    /// <summary>The name exists already.</summary>
    public const int Exists = 17;

    /// <summary>Across file systems.</summary>
    public const int CrossDevice = 18;

    /// <summary>A folder was needed.</summary>
    public const int NotDirectory = 20;

    /// <summary>A folder, where a file is wanted.</summary>
    public const int IsFolder = 21;

    /// <summary>Invalid argument.</summary>
    public const int Invalid = 22;

    /// <summary>The file would be larger than its file system takes, or than it may be.</summary>
    public const int TooLarge = 27;

    /// <summary>No space left on the device.</summary>
    public const int NoSpace = 28;

    /// <summary>Read-only file system.</summary>
    public const int ReadOnly = 30;

    /// <summary>Too many hard links.</summary>
    public const int TooManyLinks = 31;

    /// <summary>The call would block: the lock is held elsewhere.</summary>
    public const int WouldBlock = 11;

    /// <summary>The name is too long.</summary>
    public const int NameTooLong = 36;

    /// <summary>Too many symbolic links, or a link where none may be.</summary>
    public const int Loop = 40;

    /// <summary>The open file is not in a state for this, or of a kind that has no such state.</summary>
    public const int BadState = 77;

    /// <summary>No such attribute or stream.</summary>
    public const int NoData = 61;

    /// <summary>Not supported here.</summary>
    public const int NotSupported = 95;

    /// <summary>Over the user's quota.</summary>
    public const int Quota = 122;
}
