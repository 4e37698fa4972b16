using Vembar.Operations.Stations.Contract;
using Vembar.Store.Places;

namespace Vembar.Operations.Waves;

/// <summary>Archives wherever they are, one of which comes with a wave.</summary>
internal sealed class WaveFileSystem(IFileSystem files, string archive, WavePlan plan, WaveInbox inbox, Action<long> asked) : IFileSystem
{
    public IBlockStore? Blocks => files.Blocks;

    public IByteSource OpenRead(string path)
    {
        var source = files.OpenRead(path);
        return path == archive ? new WaveByteSource(source, plan, inbox, asked) : source;
    }

    public bool Exists(string path) => files.Exists(path);

    public IArchiveFile OpenWrite(string path) => files.OpenWrite(path);

    public IArchiveFile CreateNew(string path) => files.CreateNew(path);

    public void Rename(string from, string to, bool replace) => files.Rename(from, to, replace);

    public void Delete(string path) => files.Delete(path);
}
