using Vembar.Common;
using Vembar.Common.Files;

namespace Vembar.Operations.Stations.Joining;

/// <summary>A text in a file for as long as it is needed, that nobody else may read.</summary>
internal sealed class TextFile : IDisposable
{
    private TextFile(string path) => Path = path;

    /// <summary>The file.</summary>
    public string Path { get; }

    /// <summary>Writes a text; null for null.</summary>
    /// <exception cref="VembarException">It cannot be written.</exception>
    public static TextFile? For(OperationHost host, string? text, string extension)
    {
        if (text is null)
            return null;
        var path = System.IO.Path.Combine(host.TemporaryFolder, $"vembar-{Guid.NewGuid():N}{extension}");
        try
        {
            PrivateFile.Write(path, text);
        }
        catch (Exception failure) when (failure is not VembarException && VembarException.From(failure, "write", path) is { } problem)
        {
            File.Delete(path);
            throw problem;
        }
        return new TextFile(path);
    }

    public void Dispose() => File.Delete(Path);
}
