using Vembar.Operations.Stations.Contract;
using Vembar.Store.Places;

namespace Vembar.Operations.Waves;

/// <summary>Archives wherever they are, one of which comes with a wave.</summary>
/// <param name="files">Where they are.</param>
/// <param name="archive">The one that comes with the wave.</param>
/// <param name="plan">What the wave sends.</param>
/// <param name="inbox">What came of it.</param>
/// <param name="asked">Told how many bytes of the wave were asked for.</param>
public sealed class WaveFileSystem(IFileSystem files, string archive, WavePlan plan, WaveInbox inbox, Action<long> asked) : IFileSystem
{
    /// <inheritdoc/>
    public IBlockStore? Blocks => files.Blocks;

    /// <inheritdoc/>
    public IByteSource OpenRead(string path)
    {
        var source = files.OpenRead(path);
        return path == archive ? new WaveByteSource(source, plan, inbox, asked) : source;
    }

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
