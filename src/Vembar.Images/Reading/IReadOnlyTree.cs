using Vembar.Common;
using Vembar.Images.Paths;

namespace Vembar.Images.Reading;

/// <summary>Files to look into, wherever they are: a folder, an image, an image with changes.</summary>
public interface IReadOnlyTree
{
    /// <summary>What it is, for messages.</summary>
    string DisplayName { get; }

    /// <summary>The names in a folder; empty when there is no such folder.</summary>
    IReadOnlyList<string> Names(WindowsPath folder);

    /// <summary>The names in a folder that may be folders: all of them where looking at each would cost more than it saves.</summary>
    IReadOnlyList<string> Folders(WindowsPath folder) => Names(folder);

    /// <summary>Whether there is a file or folder.</summary>
    bool Exists(WindowsPath path);

    /// <summary>A file's bytes; null when there is no such file.</summary>
    /// <param name="path">Which.</param>
    /// <param name="max">A longer file is an error.</param>
    byte[]? ReadFile(WindowsPath path, long max);

    /// <summary>The first bytes of a file; null when there is none.</summary>
    /// <param name="path">Which.</param>
    /// <param name="count">How many at most.</param>
    /// <exception cref="VembarException">It cannot be read.</exception>
    byte[]? ReadStart(WindowsPath path, int count);
}
