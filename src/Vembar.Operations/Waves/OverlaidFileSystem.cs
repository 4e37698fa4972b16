using Vembar.Store.Places;

namespace Vembar.Operations.Waves;

/// <summary>Archives wherever they are, one of which is read another way.</summary>
/// <param name="files">Where they are.</param>
/// <param name="archive">The one that is read another way.</param>
/// <param name="open">Opens that one.</param>
public sealed class OverlaidFileSystem(IFileSystem files, string archive, Func<IByteSource> open) : IFileSystem
{
    /// <inheritdoc/>
    public IBlockStore? Blocks => files.Blocks;

    /// <inheritdoc/>
    public IByteSource OpenRead(string path) => path == archive ? open() : files.OpenRead(path);

    /// <inheritdoc/>
    public bool Exists(string path) => files.Exists(path);

    /// <inheritdoc/>
    public IArchiveFile OpenWrite(string path) => files.OpenWrite(path);

    /// <inheritdoc/>
    public IArchiveFile CreateNew(string path) => files.CreateNew(path);

    /// <inheritdoc/>
    public void Rename(string from, string to, bool replace) => files.Rename(from, to, replace);

    /// <inheritdoc/>
    public void Delete(string path) => files.Delete(path);
}
