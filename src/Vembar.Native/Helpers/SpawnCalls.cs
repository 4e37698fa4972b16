using System.Runtime.InteropServices;

namespace Vembar.Native.Helpers;

/// <summary>The calls of the C library that prepare posix_spawn(3) and deal with processes.</summary>
internal static unsafe partial class SpawnCalls
{
    private const string C = "libc";

    [LibraryImport(C)] public static partial int posix_spawn_file_actions_init(nint actions);
    [LibraryImport(C)] public static partial int posix_spawn_file_actions_destroy(nint actions);
    [LibraryImport(C)] public static partial int posix_spawn_file_actions_adddup2(nint actions, int from, int to);
    [LibraryImport(C)] public static partial int posix_spawn_file_actions_addchdir_np(nint actions, byte* path);
    [LibraryImport(C)] public static partial int posix_spawn_file_actions_addopen(nint actions, int fd, byte* path, int flags, uint mode);
    [LibraryImport(C)] public static partial int posix_spawnattr_init(nint attributes);
    [LibraryImport(C)] public static partial int posix_spawnattr_destroy(nint attributes);
    [LibraryImport(C)] public static partial int posix_spawnattr_setflags(nint attributes, short flags);
    [LibraryImport(C)] public static partial int posix_spawnattr_setsigdefault(nint attributes, nint signals);
    [LibraryImport(C)] public static partial int posix_spawnattr_setsigmask(nint attributes, nint signals);
    [LibraryImport(C)] public static partial int sigfillset(nint signals);
    [LibraryImport(C)] public static partial int sigemptyset(nint signals);
    [LibraryImport(C)] public static partial int sigaction(int signal, nint action, nint old);
    [LibraryImport(C)] public static partial nint signal(int number, nint handler);
    [LibraryImport(C, SetLastError = true)] public static partial int pipe2(int* ends, int flags);
    [LibraryImport(C, SetLastError = true)] public static partial int fcntl(int fd, int command, nint argument);
    [LibraryImport(C, SetLastError = true)] public static partial int access(byte* path, int mode);
    [LibraryImport(C)] public static partial int kill(int process, int signal);
    [LibraryImport(C, EntryPoint = "syscall")] public static partial nint SystemCall(nint number, nint a, nint b, nint c, nint d);
}
