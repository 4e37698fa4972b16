using System.Runtime.InteropServices;
using System.Text;
using Microsoft.Win32.SafeHandles;

namespace Vembar.Native.Helpers;

/// <summary>A Unix socket that has no name any more: who holds its place connects to it, nobody else, and nothing is left behind.</summary>
public static unsafe partial class PrivateSocket
{
    private const int UnixFamily = 1, Stream = 1, CloseOnExec = 0x80000, Waiting = 16, LongestPath = 107;

    [LibraryImport("libc", SetLastError = true)] private static partial int socket(int family, int kind, int protocol);
    [LibraryImport("libc", SetLastError = true)] private static partial int bind(int fd, byte* address, int length);
    [LibraryImport("libc", SetLastError = true)] private static partial int listen(int fd, int waiting);

    /// <summary>Makes a socket that listens.</summary>
    /// <returns>The socket, for the program that answers; and its place, for those who connect.</returns>
    /// <exception cref="NativeException">It cannot be made.</exception>
    public static (SafeFileHandle Socket, SafeFileHandle Place) Listen()
    {
        var folder = Directory.CreateTempSubdirectory("vembar-").FullName;
        try
        {
            using var open = Posix.OpenFolder(null, PosixName.Encode(folder));
            // A temporary folder's path may be longer than an address takes.
            var path = Encoding.ASCII.GetBytes($"/proc/self/fd/{open.DangerousGetHandle()}/s");
            var address = stackalloc byte[2 + LongestPath + 1];
            new Span<byte>(address, 2 + LongestPath + 1).Clear();
            address[0] = UnixFamily;
            path.CopyTo(new Span<byte>(address + 2, LongestPath));
#pragma warning disable CA2000 // goes to the caller
            var made = new SafeFileHandle(socket(UnixFamily, Stream | CloseOnExec, 0), true);
#pragma warning restore CA2000
            if (made.IsInvalid || bind((int)made.DangerousGetHandle(), address, 2 + path.Length + 1) != 0
                || listen((int)made.DangerousGetHandle(), Waiting) != 0)
            {
                var error = Marshal.GetLastPInvokeError();
                made.Dispose();
                throw new NativeException("make a socket", folder, error);
            }
            return (made, Posix.OpenPlace(Path.Combine(folder, "s")));
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    /// <summary>The path that connects to it, in this process alone.</summary>
    public static string PathOf(SafeHandle place) => $"/proc/self/fd/{place.DangerousGetHandle()}";
}
