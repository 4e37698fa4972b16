using System.Runtime.InteropServices;
using Microsoft.Win32.SafeHandles;

namespace Vembar.Native;

/// <summary>The calls of the C library that the framework does not offer: names as bytes, work relative to an open folder, links,
/// attributes, locks.</summary>
public static unsafe partial class Posix
{
    private const string C = "libc";
    private const int AtCwd = -100;
    private const int AtSymlinkNoFollow = 0x100;
    private const int AtEmptyPath = 0x1000;
    private const int CloseOnExec = 0x80000;
    private const int Interrupted = 4;

    // O_DIRECTORY, O_NOFOLLOW and O_LARGEFILE differ between processors (asm/fcntl.h).
    private static readonly bool s_arm = RuntimeInformation.ProcessArchitecture is Architecture.Arm64 or Architecture.Arm;
    private static int Directory => s_arm ? 0x4000 : 0x10000;
    private static int NoFollow => s_arm ? 0x8000 : 0x20000;
    private const int NoAtime = 0x40000;

    // Nobody waits for the other end of a pipe; files and disks do not know of it.
    private const int NonBlocking = 0x800;

    [LibraryImport(C, SetLastError = true)] private static partial int openat(int dir, byte* path, int flags, uint mode);
    [LibraryImport(C)] private static partial int close(int fd);
    [LibraryImport(C, SetLastError = true)] private static partial int execv(byte* path, byte** arguments);
    [LibraryImport(C, SetLastError = true)] private static partial nint getdents64(int fd, byte* buffer, nuint size);
    [LibraryImport(C, SetLastError = true)] private static partial int statx(int dir, byte* path, int flags, uint mask, byte* result);
    [LibraryImport(C, SetLastError = true)] private static partial nint readlinkat(int dir, byte* path, byte* buffer, nuint size);
    [LibraryImport(C, SetLastError = true)] private static partial int mkdirat(int dir, byte* path, uint mode);
    [LibraryImport(C, SetLastError = true)] private static partial int unlinkat(int dir, byte* path, int flags);
    [LibraryImport(C, SetLastError = true)] private static partial int symlinkat(byte* target, int dir, byte* path);
    [LibraryImport(C, SetLastError = true)] private static partial int linkat(int fromDir, byte* from, int toDir, byte* to, int flags);
    [LibraryImport(C, SetLastError = true)] private static partial int renameat2(int fromDir, byte* from, int toDir, byte* to, uint flags);
    [LibraryImport(C, SetLastError = true)] private static partial int utimensat(int dir, byte* path, long* times, int flags);
    [LibraryImport(C, SetLastError = true)] private static partial int futimens(int fd, long* times);
    [LibraryImport(C, SetLastError = true)] private static partial int fchmod(int fd, uint mode);
    [LibraryImport(C, SetLastError = true)] private static partial int fchownat(int dir, byte* path, uint uid, uint gid, int flags);
    [LibraryImport(C, SetLastError = true)] private static partial int fchown(int fd, uint uid, uint gid);
    [LibraryImport(C, SetLastError = true)] private static partial nint llistxattr(byte* path, byte* list, nuint size);
    [LibraryImport(C, SetLastError = true)] private static partial nint flistxattr(int fd, byte* list, nuint size);
    [LibraryImport(C, SetLastError = true)] private static partial nint lgetxattr(byte* path, byte* name, byte* value, nuint size);
    [LibraryImport(C,
        SetLastError = true)]
    private static partial int lsetxattr(byte* path, byte* name, byte* value, nuint size, int flags);
    [LibraryImport(C, SetLastError = true)] private static partial int flock(int fd, int operation);
    [LibraryImport(C, SetLastError = true)] private static partial int fsync(int fd);
    [LibraryImport(C, SetLastError = true)] private static partial int sync_file_range(int fd, long offset, long length, uint flags);
    [LibraryImport(C, SetLastError = true)] private static partial int memfd_create(byte* name, uint flags);
    [LibraryImport(C, SetLastError = true)] private static partial long lseek(int fd, long offset, int whence);
    [LibraryImport(C, SetLastError = true)] private static partial nint pread(int fd, byte* buffer, nuint count, long offset);
    [LibraryImport(C, SetLastError = true)] private static partial nint pwrite(int fd, byte* buffer, nuint count, long offset);
    [LibraryImport(C)] private static partial uint geteuid();
    [LibraryImport(C, SetLastError = true)] private static partial int fcntl(int fd, int command, Flock* argument);
    [LibraryImport(C, SetLastError = true)] private static partial int ftruncate(int fd, long length);
    [LibraryImport(C, SetLastError = true)] private static partial int fstatfs(int fd, byte* result);

    [LibraryImport(C, SetLastError = true)]
    private static partial nint syscall(nint number, nint dir, byte* path, OpenHow* how, nint size);

    private static int s_hasNoOpenBeneath;

    /// <summary>Opens a folder below another one, to work in: no link is followed on the way, and it does not lead out.</summary>
    /// <param name="root">Where the path begins.</param>
    /// <param name="raw">The path, with a NUL at the end.</param>
    /// <returns>Null when this kernel cannot (before Linux 5.6, or where a sandbox forbids it).</returns>
    /// <exception cref="NativeException">It cannot be opened, or a link is in the way.</exception>
    public static SafeFileHandle? TryOpenBeneath(SafeHandle root, ReadOnlySpan<byte> raw)
    {
        const nint OpenAt2 = 437;
        const int PathOnly = 0x200000, TryAgain = 11, NotPermitted = 1, NoSuchCall = 38;
        if (Volatile.Read(ref s_hasNoOpenBeneath) != 0)
            return null;
        var how = new OpenHow
        {
            Flags = (ulong)(uint)(PathOnly | Directory | CloseOnExec),
            Resolve = OpenHow.Beneath | OpenHow.NoSymbolicLinks | OpenHow.NoMagicLinks,
        };
        fixed (byte* p = raw)
        {
            while (true)
            {
                var fd = syscall(OpenAt2, Fd(root), p, &how, sizeof(OpenHow));
                if (fd >= 0)
                    return new SafeFileHandle(fd, true);
                switch (Marshal.GetLastPInvokeError())
                {
                    // A folder of the way was moved meanwhile.
                    case TryAgain or Interrupted:
                        continue;
                    case NoSuchCall or NotPermitted:
                        Volatile.Write(ref s_hasNoOpenBeneath, 1);
                        return null;
                    default:
                        throw Fail("open the folder", Show(raw));
                }
            }
        }
    }

    /// <summary>Opens a file below a folder for reading. Links on the way may lead to other places below that folder, not out of it;
    /// where the kernel cannot see to that (before Linux 5.6), none is followed.</summary>
    /// <param name="root">The folder.</param>
    /// <param name="path">The path below it.</param>
    /// <exception cref="NativeException">It cannot be opened, or a link leads out.</exception>
    public static SafeFileHandle OpenReadBeneath(SafeHandle root, string path)
    {
        const nint OpenAt2 = 437;
        const int NoSuchCall = 38, TryAgain = 11;
        var how = new OpenHow { Flags = CloseOnExec | NonBlocking, Resolve = OpenHow.Beneath | OpenHow.NoMagicLinks };
        fixed (byte* p = PosixName.Encode(path))
        {
            while (true)
            {
                var fd = syscall(OpenAt2, Fd(root), p, &how, sizeof(OpenHow));
                if (fd >= 0)
                    return new SafeFileHandle(fd, true);
                var error = Marshal.GetLastPInvokeError();
                if (error is NoSuchCall or Errno.NotPermitted)
                    return OpenWithoutLinks(root, path);
                if (error is not (TryAgain or Interrupted))
                    throw new NativeException("open", path, error);
            }
        }
    }

    private static SafeFileHandle OpenWithoutLinks(SafeHandle root, string path)
    {
        var parts = path.Split('/');
        SafeFileHandle? folder = null;
        try
        {
            foreach (var part in parts[..^1])
            {
                var next = OpenFolder(folder ?? root, PosixName.Encode(part));
                folder?.Dispose();
                folder = next;
            }
            return OpenRead(folder ?? root, PosixName.Encode(parts[^1]));
        }
        finally
        {
            folder?.Dispose();
        }
    }

    /// <summary>The user that the process acts as.</summary>
    public static uint UserId => geteuid();

    /// <summary>True when the process runs as root.</summary>
    public static bool IsRoot => geteuid() == 0;

    private static NativeException Fail(string operation, string target) => new(operation, target, Marshal.GetLastPInvokeError());

    private static string Show(ReadOnlySpan<byte> raw) => PosixName.Decode(raw.TrimEnd((byte)0));

    private static int Fd(SafeHandle? folder) => folder is null ? AtCwd : (int)folder.DangerousGetHandle();

    /// <summary>Opens a folder for work relative to it.</summary>
    /// <param name="parent">The folder that <paramref name="raw"/> is relative to, or null for the current one.</param>
    /// <param name="raw">Path bytes with a NUL at the end.</param>
    /// <param name="followLink">Whether the last part may be a symbolic link.</param>
    /// <exception cref="NativeException">It is not there, not a folder, or a link where none may be.</exception>
    public static SafeFileHandle OpenFolder(SafeHandle? parent, ReadOnlySpan<byte> raw, bool followLink = false)
    {
        var flags = Directory | CloseOnExec | (followLink ? 0 : NoFollow);
        fixed (byte* p = raw)
        {
            var fd = openat(Fd(parent), p, flags, 0);
            return fd >= 0 ? new SafeFileHandle(fd, true) : throw Fail("open the folder", Show(raw));
        }
    }

    /// <summary>Opens a place in the tree of folders without reading what is there, links followed: a socket may be connected to by the
    /// path /proc/self/fd/N of it, also when its name is gone.</summary>
    /// <exception cref="NativeException">There is none.</exception>
    public static SafeFileHandle OpenPlace(string path)
    {
        const int PathOnly = 0x200000;
        fixed (byte* p = PosixName.Encode(path))
        {
            var fd = openat(AtCwd, p, PathOnly | CloseOnExec, 0);
            return fd >= 0 ? new SafeFileHandle(fd, true) : throw Fail("open", path);
        }
    }

    /// <summary>Opens a file for reading, without following a link and where possible without changing its access time.</summary>
    /// <exception cref="NativeException">It cannot be opened.</exception>
    public static SafeFileHandle OpenRead(SafeHandle? parent, ReadOnlySpan<byte> raw)
    {
        fixed (byte* p = raw)
        {
            var fd = OpenReading(parent, p);
            return fd >= 0 ? new SafeFileHandle(fd, true) : throw Fail("open", Show(raw));
        }
    }

    /// <summary>Reads the beginning of a file below an open folder, without following a link and where possible without changing its
    /// access time.</summary>
    /// <returns>How many bytes: fewer than there is room for only when the file has no more.</returns>
    /// <exception cref="NativeException">It cannot be opened or read.</exception>
    public static int ReadStart(SafeHandle? parent, ReadOnlySpan<byte> raw, Span<byte> to)
    {
        int fd;
        fixed (byte* p = raw)
            fd = OpenReading(parent, p);
        if (fd < 0)
            throw Fail("open", Show(raw));
        try
        {
            return ReadAt(fd, to, 0);
        }
        finally
        {
            _ = close(fd);
        }
    }

    private static int OpenReading(SafeHandle? parent, byte* raw)
    {
        var fd = openat(Fd(parent), raw, CloseOnExec | NoFollow | NoAtime | NonBlocking, 0);
        return fd < 0 && Marshal.GetLastPInvokeError() == Errno.NotPermitted
            ? openat(Fd(parent), raw, CloseOnExec | NoFollow | NonBlocking, 0) : fd;
    }

    /// <summary>Opens a file by its path, links followed. The framework would take a shared lock at every open, so that readers and
    /// writers would hinder each other.</summary>
    /// <param name="path">The path.</param>
    /// <param name="write">Whether it will be written as well.</param>
    /// <param name="createNew">Whether it is made; fails when it is there.</param>
    /// <exception cref="NativeException">It cannot be opened, or is neither a file nor a disk.</exception>
    public static SafeFileHandle OpenFile(string path, bool write, bool createNew = false)
    {
        // Sockets cannot be opened, nor can pipes without a reader be written.
        const int NoSuchDevice = 6;
        const int ReadWrite = 2, CreateExclusive = 0x40 | 0x80;
        const uint OrdinaryMode = 0x1B6;
        fixed (byte* p = PosixName.Encode(path))
        {
            var fd = openat(AtCwd, p, CloseOnExec | NonBlocking | (write ? ReadWrite : 0) | (createNew ? CreateExclusive : 0),
                OrdinaryMode);
            if (fd < 0)
                throw Marshal.GetLastPInvokeError() == NoSuchDevice ? new NativeException("open", path, Errno.NotAFile)
                    : Fail("open", path);
            var file = new SafeFileHandle(fd, true);
            if (Stat(file) is { Kind: PosixKind.File or PosixKind.Disk })
                return file;
            var isFolder = Stat(file).Kind == PosixKind.Folder;
            file.Dispose();
            throw new NativeException("open", path, isFolder ? Errno.IsFolder : Errno.NotAFile);
        }
    }

    /// <summary>Opens a file to be written, and makes it where it is not there. A link is not followed.</summary>
    /// <exception cref="NativeException">It cannot be opened, or is no file.</exception>
    public static SafeFileHandle OpenOrCreate(string path)
    {
        const int ReadWrite = 2, Create = 0x40;
        const uint OrdinaryMode = 0x1B6;
        fixed (byte* p = PosixName.Encode(path))
        {
            var fd = openat(AtCwd, p, CloseOnExec | NonBlocking | NoFollow | ReadWrite | Create, OrdinaryMode);
            if (fd < 0)
                throw Fail("open", path);
            var file = new SafeFileHandle(fd, true);
            if (Stat(file).Kind == PosixKind.File)
                return file;
            file.Dispose();
            throw new NativeException("open", path, Errno.NotAFile);
        }
    }

    /// <summary>Makes a new file; fails when the name is taken.</summary>
    /// <exception cref="NativeException">It cannot be made.</exception>
    public static SafeFileHandle CreateNew(SafeHandle? parent, ReadOnlySpan<byte> raw, uint mode)
    {
        const int WriteCreateExclusive = 1 | 0x40 | 0x80;
        fixed (byte* p = raw)
        {
            var fd = openat(Fd(parent), p, WriteCreateExclusive | CloseOnExec | NoFollow, mode);
            return fd >= 0 ? new SafeFileHandle(fd, true) : throw Fail("make the file", Show(raw));
        }
    }

    /// <summary>The names in a folder that was just opened, in the order of their bytes, without "." and "..".</summary>
    /// <param name="folder">The open folder; it can be read once.</param>
    /// <param name="displayName">Its path, for the error.</param>
    /// <param name="into">What the names go into; what it held is forgotten.</param>
    /// <exception cref="NativeException">The folder cannot be read.</exception>
    public static void ReadFolder(SafeHandle folder, string displayName, PosixNames into)
    {
        const int Room = 32768;
        into.Clear();
        var buffer = stackalloc byte[Room];
        while (true)
        {
            var got = getdents64(Fd(folder), buffer, Room);
            if (got < 0)
                throw Fail("read the folder", displayName);
            if (got == 0)
                break;
            // struct linux_dirent64: its own length is at byte 16, the name begins at byte 19 and ends with a NUL.
            for (var at = 0; at < got; at += *(ushort*)(buffer + at + 16))
            {
                var name = MemoryMarshal.CreateReadOnlySpanFromNullTerminated(buffer + at + 19);
                if (!name.SequenceEqual("."u8) && !name.SequenceEqual(".."u8))
                    into.Add(name);
            }
        }
        into.Sort();
    }

    /// <summary>What is known of a file below an open folder; a link is not followed.</summary>
    /// <exception cref="NativeException">It is not there or not to be reached.</exception>
    public static PosixStat Stat(SafeHandle? parent, ReadOnlySpan<byte> raw) =>
        TryStat(parent, raw, out var stat) ? stat : throw Fail("look at", Show(raw));

    /// <summary>What is known of a file below an open folder; false when it cannot be told.</summary>
    public static bool TryStat(SafeHandle? parent, ReadOnlySpan<byte> raw, out PosixStat stat, bool followLink = false)
    {
        fixed (byte* p = raw)
            return StatCore(Fd(parent), p, followLink ? 0 : AtSymlinkNoFollow, out stat);
    }

    /// <summary>What is known of an open file.</summary>
    /// <exception cref="NativeException">It cannot be told.</exception>
    public static PosixStat Stat(SafeHandle open)
    {
        fixed (byte* p = "\0"u8)
            return StatCore(Fd(open), p, AtEmptyPath, out var stat) ? stat : throw Fail("look at an open file", "");
    }

    // struct flock of 64-bit systems (fcntl(2)).
    [StructLayout(LayoutKind.Sequential)]
    private struct Flock
    {
        public short Type;
        public short Whence;
        public long Start;
        public long Length;
        public int Process;
    }

    /// <summary>
    /// Claims a disk for this process until the handle is closed: a block device against mounting and all else that takes devices for
    /// itself, a file by a lock on all of it, which programs for virtual machines look for.
    /// </summary>
    /// <returns>Null when somebody else has it.</returns>
    /// <exception cref="NativeException">It cannot be opened.</exception>
    public static SafeFileHandle? Claim(string path)
    {
        const int ReadWrite = 2, Exclusive = 0x80, Busy = 16, SetLock = 37;
        const short WriteLock = 1;
        var isDevice = TryStat(null, PosixName.Encode(path), out var stat, followLink: true) && stat.Kind == PosixKind.Disk;
        SafeFileHandle claim;
        fixed (byte* p = PosixName.Encode(path))
        {
            var fd = openat(AtCwd, p, CloseOnExec | NonBlocking | ReadWrite | (isDevice ? Exclusive : 0), 0);
            if (fd < 0)
                return Marshal.GetLastPInvokeError() == Busy ? null : throw Fail("open", path);
            claim = new SafeFileHandle(fd, true);
        }
        var all = new Flock { Type = WriteLock };
        if (isDevice || fcntl(Fd(claim), SetLock, &all) == 0 || Marshal.GetLastPInvokeError() == Errno.Invalid)
            return claim;
        var isTaken = Marshal.GetLastPInvokeError() is Errno.WouldBlock or Errno.AccessDenied;
        claim.Dispose();
        return isTaken ? null : throw Fail("lock", path);
    }

    /// <summary>Gives up a claim. Closing alone is not enough: a process that is just being started may hold the open file for a moment
    /// longer.</summary>
    public static void Unclaim(SafeFileHandle claim)
    {
        const int SetLock = 37;
        const short Unlocked = 2;
        var all = new Flock { Type = Unlocked };
        _ = fcntl(Fd(claim), SetLock, &all);
        claim.Dispose();
    }

    /// <summary>How many bytes there is room for on the file system of a folder, for those without special rights.</summary>
    /// <exception cref="NativeException">There is no such folder.</exception>
    public static long FreeBytes(string folder)
    {
        // struct statfs of 64-bit systems: f_bsize at 8, f_bavail at 32.
        using var open = OpenFolder(null, PosixName.Encode(folder), followLink: true);
        var buffer = stackalloc byte[256];
        return fstatfs(Fd(open), buffer) == 0 ? *(long*)(buffer + 8) * *(long*)(buffer + 32)
            : throw Fail("look at the file system of", folder);
    }

    /// <summary>Whether something is at a path, links followed; also at one that is not UTF-8.</summary>
    public static bool Exists(string path) => TryStat(null, PosixName.Encode(path), out _, followLink: true);

    /// <summary>Whether a folder is at a path, links followed; also at one that is not UTF-8.</summary>
    public static bool IsFolder(string path) =>
        TryStat(null, PosixName.Encode(path), out var stat, followLink: true) && stat.Kind == PosixKind.Folder;

    /// <summary>Opens what is closed of standard input, output and error, so that no file of ours takes their numbers and gets what is
    /// printed.</summary>
    public static void HoldStandardStreams()
    {
        const int Standard = 3, GetFlags = 1, WriteOnly = 1;
        for (var number = 0; number < Standard; number++)
        {
            if (fcntl(number, GetFlags, null) >= 0)
                continue;
            // What cannot be printed on standard output is to be an error, as it would have been; nobody misses the others.
            fixed (byte* p = "/dev/null\0"u8)
                _ = openat(AtCwd, p, number == 2 ? WriteOnly : 0, 0);
        }
    }

    /// <summary>What kind of file system a file is on, and the number that it gives itself; 0 where it gives none (statfs(2)).</summary>
    /// <exception cref="NativeException">It cannot be told.</exception>
    public static (uint Kind, ulong Number) FileSystemOf(SafeHandle open)
    {
        // struct statfs of 64-bit systems: f_type at 0, f_fsid at 56.
        var buffer = stackalloc byte[256];
        return fstatfs(Fd(open), buffer) == 0 ? (*(uint*)buffer, *(ulong*)(buffer + 56))
            : throw Fail("look at the file system of an open file", "");
    }

    /// <summary>When a file was made, as its file system has it; null where it does not say.</summary>
    public static PosixTime? BirthOf(SafeHandle open)
    {
        const uint Birth = 0x800;
        var buffer = stackalloc byte[256];
        fixed (byte* p = "\0"u8)
        {
            return statx(Fd(open), p, AtEmptyPath, Birth, buffer) == 0 && (*(uint*)buffer & Birth) != 0
                ? new PosixTime(*(long*)(buffer + 80), *(uint*)(buffer + 88)) : null;
        }
    }

    private static bool StatCore(int dir, byte* path, int flags, out PosixStat stat)
    {
        // struct statx (linux/stat.h) has one layout on all processors.
        const uint BasicStats = 0x7ff;
        var buffer = stackalloc byte[256];
        stat = default;
        if (statx(dir, path, flags, BasicStats, buffer) != 0)
            return false;
        var mode = *(ushort*)(buffer + 28);
        var kind = (mode & 0xF000) switch
        {
            0x8000 => PosixKind.File,
            0x4000 => PosixKind.Folder,
            0xA000 => PosixKind.Link,
            0x6000 =>
            PosixKind.Disk,
            _ => PosixKind.Special
        };
        stat = new PosixStat(
            kind, mode & 0xFFFu, *(uint*)(buffer + 16), *(uint*)(buffer + 20), *(uint*)(buffer + 24),
            ((ulong)*(uint*)(buffer + 136) << 32) | *(uint*)(buffer + 140), *(ulong*)(buffer + 32),
            *(long*)(buffer + 40), *(long*)(buffer + 48) * 512,
            new PosixTime(*(long*)(buffer + 112), *(uint*)(buffer + 120)), new PosixTime(*(long*)(buffer + 96), *(uint*)(buffer + 104)));
        return true;
    }

    /// <summary>Where a symbolic link points.</summary>
    /// <exception cref="NativeException">It is not a link or cannot be read.</exception>
    public static string ReadLink(SafeHandle parent, ReadOnlySpan<byte> raw)
    {
        // No path of Linux is longer, so no link is (PATH_MAX).
        const int Longest = 4096;
        var buffer = stackalloc byte[Longest];
        fixed (byte* p = raw)
        {
            var length = readlinkat(Fd(parent), p, buffer, Longest);
            return length >= 0 ? PosixName.Decode(new ReadOnlySpan<byte>(buffer, (int)length)) : throw Fail("read the link", Show(raw));
        }
    }

    /// <summary>Makes a folder. Returns false when the name is taken.</summary>
    /// <exception cref="NativeException">It cannot be made.</exception>
    public static bool MakeFolder(SafeHandle? parent, ReadOnlySpan<byte> raw, uint mode)
    {
        fixed (byte* p = raw)
        {
            if (mkdirat(Fd(parent), p, mode) == 0)
                return true;
            return Marshal.GetLastPInvokeError() == Errno.Exists ? false : throw Fail("make the folder", Show(raw));
        }
    }

    /// <summary>Removes a file or link, or an empty folder.</summary>
    /// <exception cref="NativeException">It cannot be removed.</exception>
    public static void Remove(SafeHandle? parent, ReadOnlySpan<byte> raw, bool folder)
    {
        const int RemoveFolder = 0x200;
        fixed (byte* p = raw)
        {
            if (unlinkat(Fd(parent), p, folder ? RemoveFolder : 0) != 0)
                throw Fail("remove", Show(raw));
        }
    }

    /// <summary>Makes a symbolic link.</summary>
    /// <exception cref="NativeException">It cannot be made.</exception>
    public static void MakeLink(SafeHandle parent, ReadOnlySpan<byte> raw, ReadOnlySpan<byte> target)
    {
        fixed (byte* p = raw, t = target)
        {
            if (symlinkat(t, Fd(parent), p) != 0)
                throw Fail("make the link", Show(raw));
        }
    }

    /// <summary>Gives a file a second name. Returns the error number, 0 when done.</summary>
    public static int TryHardLink(SafeHandle? fromParent, ReadOnlySpan<byte> from, SafeHandle? toParent, ReadOnlySpan<byte> to)
    {
        fixed (byte* f = from, t = to)
            return linkat(Fd(fromParent), f, Fd(toParent), t, 0) == 0 ? 0 : Marshal.GetLastPInvokeError();
    }

    /// <summary>Renames a file; with <paramref name="replace"/> false it fails when the new name is taken.</summary>
    /// <exception cref="NativeException">It cannot be renamed.</exception>
    public static void Rename(string from, string to, bool replace)
    {
        const uint NoReplace = 1;
        fixed (byte* f = PosixName.Encode(from), t = PosixName.Encode(to))
        {
            if (renameat2(AtCwd, f, AtCwd, t, replace ? 0 : NoReplace) != 0)
                throw Fail("rename to", to);
        }
    }

    /// <summary>Renames an entry of a folder; what has the new name is replaced.</summary>
    /// <exception cref="NativeException">It cannot be renamed.</exception>
    public static void Rename(SafeHandle parent, ReadOnlySpan<byte> from, ReadOnlySpan<byte> to)
    {
        fixed (byte* f = from, t = to)
        {
            if (renameat2(Fd(parent), f, Fd(parent), t, 0) != 0)
                throw Fail("rename to", Show(to));
        }
    }

    /// <summary>Sets the modification time of an entry (the access time is set to the same); a link itself, not what it points
    /// to.</summary>
    /// <exception cref="NativeException">It cannot be set.</exception>
    public static void SetTime(SafeHandle parent, ReadOnlySpan<byte> raw, PosixTime modified)
    {
        var times = stackalloc long[] { modified.Seconds, modified.Nanoseconds, modified.Seconds, modified.Nanoseconds };
        fixed (byte* p = raw)
        {
            if (utimensat(Fd(parent), p, times, AtSymlinkNoFollow) != 0)
                throw Fail("set the time of", Show(raw));
        }
    }

    /// <summary>Sets the modification time of an open file or folder (the access time is set to the same).</summary>
    /// <exception cref="NativeException">It cannot be set.</exception>
    public static void SetTime(SafeHandle open, PosixTime modified)
    {
        var times = stackalloc long[] { modified.Seconds, modified.Nanoseconds, modified.Seconds, modified.Nanoseconds };
        if (futimens(Fd(open), times) != 0)
            throw Fail("set the time of an open file", "");
    }

    /// <summary>Sets the permission bits of an open file or folder.</summary>
    /// <exception cref="NativeException">They cannot be set.</exception>
    public static void SetMode(SafeHandle open, uint mode)
    {
        if (fchmod(Fd(open), mode) != 0)
            throw Fail("set the permissions of an open file", "");
    }

    /// <summary>Sets owner and group of an open file or folder. Returns false when that is not permitted.</summary>
    public static bool TrySetOwner(SafeHandle open, uint uid, uint gid) => fchown(Fd(open), uid, gid) == 0;

    /// <summary>Sets owner and group of an entry, of a link itself. Returns false when that is not permitted.</summary>
    public static bool TrySetOwner(SafeHandle parent, ReadOnlySpan<byte> raw, uint uid, uint gid)
    {
        fixed (byte* p = raw)
            return fchownat(Fd(parent), p, uid, gid, AtSymlinkNoFollow) == 0;
    }

    // A path through the open folder works for links as well, and however long the whole path is. There is room for the longest
    // name of any file system (1,024 bytes, through FUSE).
    private const int LongestThrough = 1100;

    private static void ThroughFolder(SafeHandle parent, ReadOnlySpan<byte> raw, Span<byte> path)
    {
        System.Text.Unicode.Utf8.TryWrite(path, System.Globalization.CultureInfo.InvariantCulture, $"/proc/self/fd/{Fd(parent)}/",
            out var used);
        if (!raw.TryCopyTo(path[used..]))
            throw new NativeException("use the name", Show(raw), Errno.Invalid);
    }

    /// <summary>Whether an open file may have extended attributes: false when it has none, or its file system.</summary>
    public static bool HasAttributes(SafeHandle open) =>
        flistxattr(Fd(open), null, 0) is var size && (size > 0 || (size < 0 && Marshal.GetLastPInvokeError() != Errno.NotSupported));

    /// <summary>The names of an entry's extended attributes; empty where the file system has none.</summary>
    /// <exception cref="NativeException">They cannot be listed.</exception>
    public static IReadOnlyList<string> ListAttributes(SafeHandle parent, ReadOnlySpan<byte> raw)
    {
        var p = stackalloc byte[LongestThrough];
        ThroughFolder(parent, raw, new Span<byte>(p, LongestThrough));
        while (true)
        {
            var size = llistxattr(p, null, 0);
            if (size == 0)
                return [];
            if (size < 0)
                return Marshal.GetLastPInvokeError() == Errno.NotSupported ? [] : throw Fail("list the attributes of", Show(raw));
            var list = new byte[size + 1024];
            fixed (byte* l = list)
            {
                size = llistxattr(p, l, (nuint)list.Length);
                if (size < 0)
                    continue;
            }
            var names = new List<string>();
            var rest = list.AsSpan(0, (int)size);
            while (rest.IndexOf((byte)0) is > 0 and var end)
            {
                names.Add(PosixName.Decode(rest[..end]));
                rest = rest[(end + 1)..];
            }
            return names;
        }
    }

    /// <summary>The value of an extended attribute, or null when the entry has none of that name.</summary>
    /// <exception cref="NativeException">It cannot be read.</exception>
    public static byte[]? GetAttribute(SafeHandle parent, ReadOnlySpan<byte> raw, string name)
    {
        var p = stackalloc byte[LongestThrough];
        ThroughFolder(parent, raw, new Span<byte>(p, LongestThrough));
        fixed (byte* n = PosixName.Encode(name))
        {
            for (var room = 4096; ; room = 65536)
            {
                var value = new byte[room];
                fixed (byte* v = value)
                {
                    var size = lgetxattr(p, n, v, (nuint)value.Length);
                    if (size >= 0)
                        return value[..(int)size];
                }
                // Not every file system says ERANGE when the value is longer; ntfs-3g says EIO.
                var errno = Marshal.GetLastPInvokeError();
                if (errno is Errno.NoData or Errno.NotSupported)
                    return null;
                if (room > 4096)
                    throw new NativeException("read the attribute", name, errno);
            }
        }
    }

    /// <summary>Sets an extended attribute. Returns the error number, 0 when done.</summary>
    public static int TrySetAttribute(SafeHandle parent, ReadOnlySpan<byte> raw, string name, ReadOnlySpan<byte> value)
    {
        var p = stackalloc byte[LongestThrough];
        ThroughFolder(parent, raw, new Span<byte>(p, LongestThrough));
        fixed (byte* n = PosixName.Encode(name), v = value)
            return lsetxattr(p, n, v, (nuint)value.Length, 0) == 0 ? 0 : Marshal.GetLastPInvokeError();
    }

    /// <summary>Takes an exclusive advisory lock on an open file. Returns false when another process holds it.</summary>
    /// <exception cref="NativeException">The file system does not lock.</exception>
    public static bool TryLock(SafeHandle open)
    {
        const int ExclusiveNonBlocking = 2 | 4;
        if (flock(Fd(open), ExclusiveNonBlocking) == 0)
            return true;
        return Marshal.GetLastPInvokeError() == Errno.WouldBlock ? false : throw Fail("lock", "");
    }

    /// <summary>Gives up a lock. Closing alone is not enough: a process that is just being started may hold the open file for a moment
    /// longer.</summary>
    public static void Unlock(SafeHandle open)
    {
        const int Release = 8;
        _ = flock(Fd(open), Release);
    }

    /// <summary>Makes everything written to an open file or folder durable.</summary>
    /// <exception cref="NativeException">The device reported an error.</exception>
    public static void Sync(SafeHandle open)
    {
        if (fsync(Fd(open)) != 0)
            throw Fail("make durable", "");
    }

    /// <summary>Lets the system begin to write a stretch of a file to the device, so that <see cref="Sync"/> has less to wait for. A hint;
    /// it cannot fail.</summary>
    public static void BeginSync(SafeHandle open, long offset, long length)
    {
        const uint StartWriting = 2;
        _ = sync_file_range(Fd(open), offset, length, StartWriting);
    }

    /// <summary>A file that lives in memory only. Its path for libraries that want one is <c>/proc/self/fd/N</c>.</summary>
    /// <exception cref="NativeException">It cannot be made.</exception>
    public static SafeFileHandle MemoryFile(out string path)
    {
        fixed (byte* p = "vembar\0"u8)
        {
            var fd = memfd_create(p, 1);
            if (fd < 0)
                throw Fail("make a file in memory", "");
            path = $"/proc/self/fd/{fd}";
            return new SafeFileHandle(fd, true);
        }
    }

    /// <summary>Writes all of a span to a place in an open file. The framework would ask first whether the file has places.</summary>
    /// <exception cref="NativeException">There is no room, or the device reported an error.</exception>
    public static void Write(SafeHandle open, ReadOnlySpan<byte> bytes, long offset)
    {
        fixed (byte* b = bytes)
        {
            for (var done = 0; done < bytes.Length;)
            {
                var count = pwrite(Fd(open), b + done, (nuint)(bytes.Length - done), offset + done);
                if (count >= 0)
                    done += (int)count;
                else if (Marshal.GetLastPInvokeError() != Interrupted)
                    throw Fail("write", "");
            }
        }
    }

    /// <summary>Cuts an open file to a length, or lets it grow by a hole.</summary>
    /// <exception cref="NativeException">There is no room, or the length is more than the file system takes.</exception>
    public static void SetLength(SafeHandle open, long length)
    {
        if (ftruncate(Fd(open), length) != 0)
            throw Fail("set the length of a file", "");
    }

    /// <summary>Fills a span from a place in an open file. Returns the number of bytes read, less than asked only at the end.</summary>
    /// <exception cref="NativeException">The device reported an error.</exception>
    public static int Read(SafeHandle open, Span<byte> buffer, long offset) => ReadAt(Fd(open), buffer, offset);

    private static int ReadAt(int fd, Span<byte> buffer, long offset)
    {
        var done = 0;
        fixed (byte* b = buffer)
        {
            while (done < buffer.Length)
            {
                var count = pread(fd, b + done, (nuint)(buffer.Length - done), offset + done);
                if (count == 0)
                    break;
                if (count < 0)
                {
                    if (Marshal.GetLastPInvokeError() == Interrupted)
                        continue;
                    throw Fail("read", "");
                }
                done += (int)count;
            }
        }
        return done;
    }

    /// <summary>Where a file or block device ends, in bytes.</summary>
    /// <exception cref="NativeException">It has no end, as a pipe.</exception>
    public static long EndOf(SafeHandle open)
    {
        const int FromEnd = 2;
        var end = lseek(Fd(open), 0, FromEnd);
        return end >= 0 ? end : throw Fail("find the end of", "");
    }

    /// <summary>The next stretch of an open file that holds data, from an offset on.</summary>
    /// <returns>Start and end of the stretch; both equal to <paramref name="size"/> when only a hole is left. Where the file system knows
    /// no holes, all is data.</returns>
    public static (long Start, long End) NextData(SafeHandle open, long offset, long size)
    {
        const int SeekData = 3, SeekHole = 4, NoSuchPlace = 6;
        var start = lseek(Fd(open), offset, SeekData);
        if (start < 0)
            return Marshal.GetLastPInvokeError() == NoSuchPlace ? (size, size) : (offset, size);
        var end = lseek(Fd(open), start, SeekHole);
        return (Math.Min(start, size), end < 0 ? size : Math.Min(end, size));
    }

    /// <summary>Lets another program take this process's place.</summary>
    /// <param name="program">Its file.</param>
    /// <param name="arguments">What it is called with; the first is what it is called.</param>
    /// <returns>Why that could not be done; where it could, this does not return.</returns>
    public static NativeException Execute(string program, IReadOnlyList<string> arguments)
    {
        var words = arguments.Select(a => Marshal.StringToCoTaskMemUTF8(a)).ToArray();
        var list = stackalloc byte*[words.Length + 1];
        for (var i = 0; i < words.Length; i++)
            list[i] = (byte*)words[i];
        list[words.Length] = null;
        var path = Marshal.StringToCoTaskMemUTF8(program);
        _ = execv((byte*)path, list);
        var failure = new NativeException("run", program, Marshal.GetLastPInvokeError());
        foreach (var word in words)
            Marshal.FreeCoTaskMem(word);
        Marshal.FreeCoTaskMem(path);
        return failure;
    }
}
