namespace Vembar.Common.Files;

/// <summary>Files that nobody else may read.</summary>
public static class PrivateFile
{
    /// <summary>Makes one, to be written.</summary>
    /// <param name="path">Its name, which must be free.</param>
    /// <exception cref="IOException">It cannot be made.</exception>
    public static FileStream Create(string path) => new(path, new FileStreamOptions
    {
        Mode = FileMode.CreateNew,
        Access = FileAccess.Write,
        UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite,
    });

    /// <summary>Makes one that holds a text.</summary>
    /// <param name="path">Its name, which must be free.</param>
    /// <param name="text">The text.</param>
    /// <exception cref="IOException">It cannot be made.</exception>
    public static void Write(string path, string text)
    {
        using var file = Create(path);
        using var writer = new StreamWriter(file);
        writer.Write(text);
    }
}
