using Vembar.Common;

namespace Vembar.Store.Places.Remote;

/// <summary>Archives wherever they are: in the file system, behind web servers, in registries.</summary>
/// <param name="local">The file system.</param>
/// <param name="options">How the others are talked to; asked for when the first of them is.</param>
public sealed class PlaceFileSystem(IFileSystem local, Func<PlaceOptions> options) : IFileSystem, IDisposable
{
    private readonly Lazy<(PlaceOptions Options, HttpExchange Exchange)> _remote = new(() =>
    {
        var made = options();
        return (made, new HttpExchange(made));
    });

    /// <summary>Gets what is to be told of archives that are opened.</summary>
    public Action<Notice>? Told { get; init; }

    /// <inheritdoc/>
    public void Tell(Notice notice) => Told?.Invoke(notice);

    /// <inheritdoc/>
    public IBlockStore? Blocks => _remote.Value.Options.Blocks;

    /// <inheritdoc/>
#pragma warning disable CA2000 // owned by what is returned
    public IByteSource OpenRead(string path) => PlaceAddress.IsRegistry(path) ? OpenRegistry(path)
        : PlaceAddress.IsWeb(path) ? HttpByteSource.Open(_remote.Value.Exchange, path) : local.OpenRead(path);
#pragma warning restore CA2000

    /// <inheritdoc/>
    public IArchiveFile OpenWrite(string path) => PlaceAddress.IsRegistry(path) ? OpenRegistry(path)
        : PlaceAddress.IsWeb(path) ? TailArchiveFile.Open(_remote.Value.Exchange, _remote.Value.Options, path) ?? throw Missing(path)
        : local.OpenWrite(path);

    /// <inheritdoc/>
    public IArchiveFile CreateNew(string path) => PlaceAddress.IsRegistry(path)
        ? OciArchiveFile.Create(new OciRepository(_remote.Value.Exchange, OciReference.Parse(path)), _remote.Value.Options)
        : PlaceAddress.IsWeb(path) ? TailArchiveFile.Create(_remote.Value.Exchange, _remote.Value.Options, path) : local.CreateNew(path);

    /// <inheritdoc/>
    public bool Exists(string path)
    {
        if (!PlaceAddress.IsRemote(path))
            return local.Exists(path);
        try
        {
            OpenRead(path).Dispose();
            return true;
        }
        catch (VembarException problem) when (problem.Code == "no-such-archive")
        {
            return false;
        }
    }

    /// <inheritdoc/>
    public void Rename(string from, string to, bool replace) => local.Rename(from, to, replace);

    /// <inheritdoc/>
    public void Delete(string path)
    {
        // What was never published is nowhere.
        if (!PlaceAddress.IsRemote(path))
            local.Delete(path);
    }

    /// <summary>Makes sure, as far as that can be told beforehand, that an archive there may be written.</summary>
    /// <exception cref="VembarException">It may not.</exception>
    public void EnsureWritable(string path)
    {
        if (PlaceAddress.IsWeb(path))
            TailArchiveFile.Look(_remote.Value.Exchange, path);
        if (PlaceAddress.IsRegistry(path))
            new OciRepository(_remote.Value.Exchange, OciReference.Parse(path)).EnsureWritable();
    }

    private OciArchiveFile OpenRegistry(string path)
    {
        var repository = new OciRepository(_remote.Value.Exchange, OciReference.Parse(path));
        return OciArchiveFile.Open(repository, _remote.Value.Options) ?? throw Missing(path);
    }

    private static VembarException Missing(string path) => VembarException.Input("no-such-archive",
        $"there is no archive '{path}'", Advice.Of("no-such-archive", ("path", path)));

    /// <inheritdoc/>
    public void Dispose()
    {
        if (_remote.IsValueCreated)
            _remote.Value.Exchange.Dispose();
    }
}
