using System.CommandLine;
using Vembar.Common;
using Vembar.Native;
using Vembar.Operations;

namespace Vembar.Cli;

/// <summary>What --overwrite does not mean: that an archive, or what the command itself reads, may go.</summary>
internal static class Overwriting
{
    /// <summary>Looks whether a file that is there may be written over at all.</summary>
    /// <param name="path">The file.</param>
    /// <param name="parse">The command line, which may name it twice.</param>
    /// <exception cref="VembarException">It may not.</exception>
    public static void Check(string path, ParseResult parse)
    {
        if (ImageReference.IsImage(path))
            throw VembarException.Input("output-exists", $"'{path}' is an archive of images, which is not written over",
                "Name another file.");
        if (parse.Tokens.Count(t => IsSame(t.Value, path) || IsSame(t.Value.Split('#')[0], path)) > 1)
            throw VembarException.Input("same-file", $"'{path}' is named twice: to be read, and to be written over", "Name another file.");
    }

    private static bool IsSame(string named, string path) => named.Length > 0 && Identity(named) is { } one && Identity(path) == one;

    private static (ulong, ulong)? Identity(string path)
    {
        try
        {
            var target = File.ResolveLinkTarget(path, returnFinalTarget: true)?.FullName ?? path;
            var stat = Posix.Stat(null, PosixName.Encode(target));
            return (stat.Device, stat.Inode);
        }
        catch (Exception failure) when (failure is IOException or UnauthorizedAccessException or ArgumentException or NativeException)
        {
            return null;
        }
    }
}
