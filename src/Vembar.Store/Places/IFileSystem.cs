namespace Vembar.Store.Places;

/// <summary>The few things that an archive needs of a file system; tests put one in its place that stops at a chosen operation.</summary>
public interface IFileSystem
{
    /// <summary>Keeps blocks of archives that are far away; null where nothing is kept.</summary>
    IBlockStore? Blocks => null;

    /// <summary>Gets what those should know who asked for an archive, and is no reason not to open it.</summary>
    void Tell(Common.Notice notice)
    {
    }

    /// <summary>Whether there is something of that name.</summary>
    bool Exists(string path) => Native.Posix.Exists(path);

    /// <summary>Opens a file that exists for reading.</summary>
    IByteSource OpenRead(string path);

    /// <summary>Opens a file that exists for reading and writing.</summary>
    IArchiveFile OpenWrite(string path);

    /// <summary>Makes a file; fails when the name is taken.</summary>
    IArchiveFile CreateNew(string path);

    /// <summary>Gives a file another name in the same folder and makes that durable. Fails when the name is taken, unless it may be
    /// replaced.</summary>
    void Rename(string from, string to, bool replace);

    /// <summary>Removes a file.</summary>
    void Delete(string path);
}
