namespace Vembar.Operations.Report;

/// <summary>How much room a folder takes, all below it included.</summary>
/// <param name="Name">Its name; empty for the root.</param>
/// <param name="Bytes">Bytes of its files and their streams; hard-linked content counts once, where it is met first.</param>
/// <param name="Files">Names of files.</param>
/// <param name="Folders">The folders in it that take the most, the largest first; small ones are left out.</param>
public sealed record FolderSpace(string Name, long Bytes, long Files, IReadOnlyList<FolderSpace> Folders)
{
    /// <summary>Bytes that are in none of <see cref="Folders"/>.</summary>
    public long Rest => Bytes - Folders.Sum(f => f.Bytes);
}
