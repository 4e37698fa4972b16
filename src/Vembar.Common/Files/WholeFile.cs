namespace Vembar.Common.Files;

/// <summary>Files that others read while they are written: they see what was there before, or all that is new.</summary>
public static class WholeFile
{
    /// <summary>Puts a file into the place of another, or of none.</summary>
    /// <param name="path">Its name.</param>
    /// <param name="bytes">What it is to hold.</param>
    /// <exception cref="IOException">It cannot be written; then what was there is as it was.</exception>
    /// <exception cref="UnauthorizedAccessException">It may not be written.</exception>
    public static void Write(string path, ReadOnlySpan<byte> bytes)
    {
        var scratch = $"{path}.{Guid.NewGuid():N}";
        try
        {
            File.WriteAllBytes(scratch, bytes);
            File.Move(scratch, path, overwrite: true);
        }
        finally
        {
            File.Delete(scratch);
        }
    }
}
