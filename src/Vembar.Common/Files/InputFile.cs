using System.Text;
using Vembar.Native;

namespace Vembar.Common.Files;

/// <summary>Files that people name: read as files, and never waited for, as opening a pipe would.</summary>
public static class InputFile
{
    /// <summary>Opens a file for reading.</summary>
    /// <exception cref="NativeException">It is not there, must not be read, or is a pipe, a socket or a device.</exception>
#pragma warning disable CA2000 // owned by the stream
    public static FileStream OpenRead(string path) => new(Posix.OpenFile(path, write: false), FileAccess.Read);
#pragma warning restore CA2000

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
