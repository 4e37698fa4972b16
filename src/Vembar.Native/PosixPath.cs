using Microsoft.Win32.SafeHandles;

namespace Vembar.Native;

/// <summary>Paths below an open folder, of any length.</summary>
public static class PosixPath
{
    // Some bytes less than one call takes (PATH_MAX, limits.h).
    private const int OneCall = 4000;

    /// <summary>The path of a node from the root on, as Linux takes it, with a NUL at the end; "." for the root.</summary>
    /// <param name="node">The node.</param>
    /// <param name="parent">Gives the node above; null for the root.</param>
    /// <param name="name">Gives a node's name.</param>
    /// <exception cref="NativeException">A name cannot be written on Linux.</exception>
    public static byte[] Of<T>(T node, Func<T, T?> parent, Func<T, string> name) where T : class
    {
        if (parent(node) is null)
            return [(byte)'.', 0];
        var length = 0;
        for (var at = node; parent(at) is { } above; at = above)
            length += PosixName.Length(name(at));
        var whole = new byte[length];
        var end = length;
        for (var at = node; parent(at) is { } above; at = above)
        {
            var own = PosixName.Length(name(at));
            PosixName.Put(name(at), whole.AsSpan(end - own));
            whole[end - 1] = at == node ? (byte)0 : (byte)'/';
            end -= own;
        }
        return whole;
    }

    /// <summary>Does something at a path: in one call where it is short enough for that, else in its folder, gone down to one by
    /// one.</summary>
    /// <param name="root">Where the path begins.</param>
    /// <param name="raw">The path, with a NUL at the end.</param>
    /// <param name="work">Given an open folder and the path from it on.</param>
    /// <exception cref="NativeException">A folder on the way cannot be opened.</exception>
    public static T WithParent<T>(SafeFileHandle root, byte[] raw, Func<SafeFileHandle, byte[], T> work)
    {
        return raw.Length < OneCall ? work(root, raw) : StepByStep(root, raw, work);
    }

    /// <summary>Does something in the folder that a path leads to, below a folder that others may write to: no link is followed on the way,
    /// also one that was put there a moment ago.</summary>
    /// <param name="root">Where the path begins.</param>
    /// <param name="raw">The path, with a NUL at the end.</param>
    /// <param name="work">Given the open folder and the name in it.</param>
    /// <exception cref="NativeException">A folder on the way cannot be opened, or is a link.</exception>
    public static T BelowParent<T>(SafeFileHandle root, byte[] raw, Func<SafeFileHandle, byte[], T> work)
    {
        var slash = raw.AsSpan().LastIndexOf((byte)'/');
        if (slash < 0)
            return work(root, raw);
        if (raw.Length >= OneCall)
            return StepByStep(root, raw, work);
        byte[] folder = [.. raw.AsSpan(0, slash), 0];
        using var parent = Posix.TryOpenBeneath(root, folder);
        return parent is null ? StepByStep(root, raw, work) : work(parent, raw[(slash + 1)..]);
    }

    private static T StepByStep<T>(SafeFileHandle root, byte[] raw, Func<SafeFileHandle, byte[], T> work)
    {
        var folder = root;
        try
        {
            for (var start = 0; ;)
            {
                var length = raw.AsSpan(start).IndexOf((byte)'/');
                if (length < 0)
                    return work(folder, raw[start..]);
#pragma warning disable CA2000 // disposed of in the end
                var next = Posix.OpenFolder(folder, (byte[])[.. raw.AsSpan(start, length), 0]);
#pragma warning restore CA2000
                if (folder != root)
                    folder.Dispose();
                folder = next;
                start += length + 1;
            }
        }
        finally
        {
            if (folder != root)
                folder.Dispose();
        }
    }
}
