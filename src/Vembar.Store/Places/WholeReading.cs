namespace Vembar.Store.Places;

/// <summary>A file system for those who read remote archives from end to end, as they are there: nothing is taken from what is kept
/// here.</summary>
/// <param name="files">The file system.</param>
internal sealed class WholeReading(IFileSystem files) : IFileSystem
{
    public IByteSource OpenRead(string path)
    {
        var source = files.OpenRead(path);
        return source.IsRemote ? new WindowedByteSource(source) : source;
    }

    public bool Exists(string path) => files.Exists(path);

    public IArchiveFile OpenWrite(string path) => files.OpenWrite(path);

    public IArchiveFile CreateNew(string path) => files.CreateNew(path);

    public void Rename(string from, string to, bool replace) => files.Rename(from, to, replace);

    public void Delete(string path) => files.Delete(path);
}
