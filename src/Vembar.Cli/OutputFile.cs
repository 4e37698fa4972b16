using Vembar.Core;

namespace Vembar.Cli;

/// <summary>Files that a command writes beside its output.</summary>
internal static class OutputFile
{
    /// <summary>Writes a text whole, or leaves what was there.</summary>
    /// <exception cref="VembarException">It cannot be written.</exception>
    public static void Write(string path, string text)
    {
        var beside = path + ".new";
        try
        {
            File.WriteAllText(beside, text);
            File.Move(beside, path, overwrite: true);
        }
        catch (Exception failure) when (VembarException.From(failure, "write", path) is { } error)
        {
            File.Delete(beside);
            throw error;
        }
    }
}
