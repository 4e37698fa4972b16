using Vembar.Common;
using Vembar.Images.Nodes;

namespace Vembar.Windows.Servicing.Folders;

/// <summary>The folder that holds a driver package or a package: on this machine, in a packed file, or in an image. Names compare without
/// case.</summary>
public interface IPackageFolder
{
    /// <summary>What it is, for messages.</summary>
    string DisplayName { get; }

    /// <summary>The length of a file in bytes, or null when there is none.</summary>
    /// <param name="file">Its path below the folder, with '/'.</param>
    /// <exception cref="VembarException">What holds it cannot be read.</exception>
    long? Length(string file);

    /// <summary>A file's content to read, from the start.</summary>
    /// <exception cref="VembarException">There is no such file, or it cannot be read.</exception>
    Stream Open(string file);

    /// <summary>What an image stores for a file.</summary>
    /// <exception cref="VembarException">There is no such file, or it cannot be read.</exception>
    NewContent Content(string file);
}
