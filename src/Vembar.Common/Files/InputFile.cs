using System.Text;
using Microsoft.Win32.SafeHandles;
using Vembar.Native;

namespace Vembar.Common.Files;

/// <summary>Files that people name: read as files, and never waited for, as opening a pipe would.</summary>
public static class InputFile
{
    /// <summary>What stands for the program's standard input. A file of that name is "./-".</summary>
    public const string StandardInput = "-";

    // More is no list that somebody made.
    private const long LongestInput = 64 << 20;

    // Read once, however often it is opened: what was read is gone from the pipe.
    private static readonly Lazy<(SafeFileHandle Held, string Path)> s_input = new(ReadInput);

    /// <summary>Opens a file for reading. <see cref="StandardInput"/> is read to its end first.</summary>
    /// <exception cref="NativeException">It is not there, must not be read, or is a pipe, a socket or a device.</exception>
    /// <exception cref="VembarException">The standard input is longer than 64 MiB, or closed.</exception>
#pragma warning disable CA2000 // owned by the stream
    public static FileStream OpenRead(string path) =>
        new(Posix.OpenFile(path == StandardInput ? s_input.Value.Path : path, write: false), FileAccess.Read);
#pragma warning restore CA2000

    /// <summary>Whether the standard input is being waited for, which nothing but its end, or the program's, ends.</summary>
    public static bool IsWaiting => s_isWaiting;

    private static volatile bool s_isWaiting;

    private static (SafeFileHandle, string) ReadInput()
    {
        s_isWaiting = true;
        var held = Posix.MemoryFile(out var path);
        try
        {
            using var standard = new SafeFileHandle(0, ownsHandle: false);
            using var input = new FileStream(standard, FileAccess.Read, bufferSize: 0);
            var piece = new byte[1 << 16];
            var length = 0L;
            for (int got; (got = input.Read(piece)) > 0; length += got)
            {
                if (length + got > LongestInput)
                    throw VembarException.Input("input-too-long", "the standard input is longer than 64 MiB",
                        "What is read from there is a list, an order or the like.");
                Posix.Write(held, piece.AsSpan(0, got), length);
            }
            return (held, path);
        }
        catch
        {
            held.Dispose();
            throw;
        }
        finally
        {
            s_isWaiting = false;
        }
    }

    /// <summary>All bytes of a file.</summary>
    /// <exception cref="NativeException">It is not there, must not be read, or is a pipe, a socket or a device.</exception>
    public static byte[] ReadAllBytes(string path)
    {
        using var file = OpenRead(path);
        var bytes = new byte[file.Length];
        var got = file.ReadAtLeast(bytes, bytes.Length, throwOnEndOfStream: false);
        return got == bytes.Length ? bytes : bytes[..got];
    }

    /// <summary>A file's text; its encoding is told by its first bytes, and is UTF-8 without such.</summary>
    /// <exception cref="NativeException">It is not there, must not be read, or is a pipe, a socket or a device.</exception>
    public static string ReadAllText(string path)
    {
        using var reader = new StreamReader(OpenRead(path), Encoding.UTF8, detectEncodingFromByteOrderMarks: true);
        return reader.ReadToEnd();
    }

    /// <summary>A file's lines.</summary>
    /// <exception cref="NativeException">It is not there, must not be read, or is a pipe, a socket or a device.</exception>
    public static string[] ReadAllLines(string path) => ReadAllText(path).ReplaceLineEndings("\n").TrimEnd('\n').Split('\n');
}
