using Vembar.Store.Compression;
using Vembar.Store.Format;
using Vembar.Store.Places;
using Vembar.Store.Reading;

namespace Vembar.Store.Writing;

/// <summary>How an archive is opened to be changed.</summary>
public sealed record WriterOptions
{
    /// <summary>Whether the archive may be made when there is none.</summary>
    public bool MayCreate { get; init; }

    /// <summary>How hard to compress.</summary>
    public Effort Effort { get; init; } = Effort.Balanced;

    /// <summary>How long to wait for another writer.</summary>
    public TimeSpan Wait { get; init; }

    /// <summary>The file system that it is in.</summary>
    public IFileSystem Files { get; init; } = LocalFileSystem.Instance;

    /// <summary>Where the times of states come from, and what waiting goes by.</summary>
    public TimeProvider Clock { get; init; } = TimeProvider.System;

    /// <summary>Who makes the state ("user@host"); empty for nobody in particular.</summary>
    public string By { get; init; } = "";

    /// <summary>Tells the images of an archive for those who keep its bytes: numbers, names, versions.</summary>
    internal Func<ArchiveReader, IReadOnlyList<(int Number, string Name, string Version)>> Images { get; init; } = _ => [];

    /// <summary>Archives that a new archive is based on.</summary>
    public IReadOnlyList<BaseArchive> BasedOn { get; init; } = [];
}
