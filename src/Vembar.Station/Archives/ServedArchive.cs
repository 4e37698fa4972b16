namespace Vembar.Station.Archives;

/// <summary>An archive that a station serves.</summary>
/// <param name="Name">Its name, as in addresses.</param>
/// <param name="Place">Where it is.</param>
public sealed record ServedArchive(string Name, string Place)
{
    /// <summary>The id of the machine whose user files it holds; null for an archive of installs.</summary>
    public string? UserFilesOf { get; init; }
}
