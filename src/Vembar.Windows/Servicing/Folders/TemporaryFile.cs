using Microsoft.Win32.SafeHandles;
using Vembar.Common;
using Vembar.Native;

namespace Vembar.Windows.Servicing.Folders;

/// <summary>Temporary files that have no name: whatever becomes of the program, nothing of them stays.</summary>
internal static class TemporaryFile
{
    // What is large belongs there rather than into /tmp, which may be memory.
    private const string Large = "/var/tmp";

    private static string Folder =>
        Environment.GetEnvironmentVariable("TMPDIR") is { Length: > 0 } named ? named
        : Directory.Exists(Large) ? Large : Path.GetTempPath();

    /// <summary>Creates one.</summary>
    /// <param name="bytes">How many bytes it will hold.</param>
    /// <param name="what">What is unpacked, for messages.</param>
    /// <exception cref="VembarException">There is no room for it, or no folder.</exception>
    public static SafeFileHandle Create(long bytes, string what)
    {
        var folder = Folder;
        try
        {
            if (Posix.FreeBytes(folder) is var free && free < bytes)
            {
                throw VembarException.Environment("no-room",
                    $"{what} holds {bytes >> 20} MiB unpacked, and '{folder}' has room for {free >> 20} MiB",
                    "Set TMPDIR to a folder with more room, or unpack it yourself.");
            }
            var path = Path.Combine(folder, $".vembar-{Guid.NewGuid():N}");
            var file = File.OpenHandle(path, FileMode.CreateNew, FileAccess.ReadWrite, FileShare.None);
            File.Delete(path);
            return file;
        }
        catch (Exception failure) when (failure is not VembarException && VembarException.From(failure, "write", folder) is { } error)
        {
            throw error;
        }
    }

    /// <summary>Writes into one.</summary>
    /// <exception cref="VembarException">There is no room.</exception>
    public static void Write(SafeFileHandle file, ReadOnlySpan<byte> bytes, long at)
    {
        try
        {
            RandomAccess.Write(file, bytes, at);
        }
        catch (IOException failure) when (VembarException.From(failure, "write", Folder) is { } error)
        {
            throw error;
        }
    }
}
