namespace Vembar.Store.Places;

/// <summary>Where an archive is, and where to look for the archives that it is based on.</summary>
/// <param name="Path">The archive's path.</param>
/// <param name="Bases">Archives, or folders that hold them, to look in before the archive's own folder.</param>
public sealed record ArchiveLocation(string Path, IReadOnlyList<string> Bases)
{
    /// <summary>An archive whose bases, if it has any, lie beside it.</summary>
    public static implicit operator ArchiveLocation(string path) => new(path, []);

    /// <summary>The number of the state that is read; null for the last one.</summary>
    public long? State { get; init; }

    /// <summary>Whether it is elsewhere, and not in the file system.</summary>
    public bool IsRemote => PlaceAddress.IsRemote(Path);

    /// <summary>Its whole path, or its address.</summary>
    public string FullName => PlaceAddress.FullName(Path);

    /// <inheritdoc/>
    public override string ToString() => Path;
}
