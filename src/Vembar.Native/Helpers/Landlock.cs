using System.Runtime.InteropServices;
using Microsoft.Win32.SafeHandles;

namespace Vembar.Native.Helpers;

/// <summary>A set of rules of Landlock (kernel documentation, userspace-api/landlock).</summary>
internal static unsafe partial class Landlock
{
    private const nint CreateRuleset = 444, AddRule = 445;
    private const ulong Execute = 1, WriteFile = 2, ReadFile = 4, ReadFolder = 8, Truncate = 1 << 14;

    // A packed struct of the kernel: 12 bytes, not 16.
    [StructLayout(LayoutKind.Sequential, Pack = 1)]
    private struct PathRule
    {
        public ulong Allowed;
        public int Place;
    }

    [StructLayout(LayoutKind.Sequential)]
    private struct RulesetAttributes
    {
        public ulong Files;
        public ulong Network;
        public ulong Scopes;
    }

    [LibraryImport("libc", SetLastError = true)] private static partial nint syscall(nint number, nint a, nint b, nint c, nint d);

    /// <summary>Makes the rules of a confinement.</summary>
    /// <returns>Null when the kernel has no Landlock, or this process may not use it.</returns>
    /// <exception cref="NativeException">A rule cannot be made.</exception>
    public static SafeFileHandle? TryMake(Confinement confinement)
    {
        var version = (int)syscall(CreateRuleset, 0, 0, 1, 0);
        if (version < 1)
            return null;
        // Newer versions handle more; what they do not know they refuse.
        var handled = version switch { 1 => 0x1FFFUL, 2 => 0x3FFFUL, 3 or 4 => 0x7FFFUL, _ => 0xFFFFUL };
        var attributes = new RulesetAttributes { Files = handled, Network = version >= 4 ? 3UL : 0, Scopes = version >= 6 ? 3UL : 0 };
        var length = version switch { < 4 => 8, < 6 => 16, _ => 24 };
        var descriptor = syscall(CreateRuleset, (nint)(&attributes), length, 0, 0);
        if (descriptor < 0)
            return null;
        var rules = new SafeFileHandle(descriptor, true);
        try
        {
            foreach (var place in Confinement.SystemPlaces)
                AllowPlace(rules, place);
            foreach (var file in confinement.Readable)
                Allow(rules, (int)file.DangerousGetHandle(), ReadFile);
            foreach (var file in confinement.Writable)
                Allow(rules, (int)file.DangerousGetHandle(), ReadFile | WriteFile | (version >= 3 ? Truncate : 0));
            return rules;
        }
        catch
        {
            rules.Dispose();
            throw;
        }
    }

    private static void AllowPlace(SafeFileHandle rules, string place)
    {
        if (!Posix.TryStat(null, PosixName.Encode(place), out var stat, followLink: true))
            return;
        using var open = Posix.OpenPlace(place);
        var isFolder = stat.Kind == PosixKind.Folder;
        Allow(rules, (int)open.DangerousGetHandle(), isFolder ? Execute | ReadFile | ReadFolder
            : place == "/dev/null" ? ReadFile | WriteFile : ReadFile);
    }

    private static void Allow(SafeFileHandle rules, int place, ulong access)
    {
        var rule = new PathRule { Allowed = access, Place = place };
        if (syscall(AddRule, rules.DangerousGetHandle(), 1, (nint)(&rule), 0) == 0)
            return;
        // A file in memory belongs to no place and needs no rule.
        if (Marshal.GetLastPInvokeError() is not (Errno.BadState or Errno.Invalid))
            throw new NativeException("make a rule for a helper program", "Landlock", Marshal.GetLastPInvokeError());
    }
}
