using Vembar.Common;
using Vembar.Common.Files;

namespace Vembar.Operations.Stations.Joining;

/// <summary>A text in a file for as long as it is needed, that nobody else may read.</summary>
internal sealed class TextFile : IDisposable
{
    private readonly ScratchFolder _folder;

    private TextFile(ScratchFolder folder, string path) => (_folder, Path) = (folder, path);

    /// <summary>The file.</summary>
    public string Path { get; }

    /// <summary>Writes a text; null for null.</summary>
    /// <exception cref="VembarException">It cannot be written.</exception>
    public static TextFile? For(OperationHost host, string? text, string extension)
    {
        if (text is null)
            return null;
        ScratchFolder? folder = null;
        try
        {
            folder = ScratchFolder.Make(host.TemporaryFolder);
            var path = System.IO.Path.Combine(folder.Path, $"text{extension}");
            PrivateFile.Write(path, text);
            return new TextFile(folder, path);
        }
        catch (Exception failure) when (failure is not VembarException
            && VembarException.From(failure, "write", host.TemporaryFolder) is { } problem)
        {
            folder?.Dispose();
            throw problem;
        }
    }

    public void Dispose() => _folder.Dispose();
}
