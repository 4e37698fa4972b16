using Vembar.Operations.History;

namespace Vembar.Operations.Report;

/// <summary>What an archive holds, how it came to hold it, and where its room goes.</summary>
/// <param name="Archive">The archive's path.</param>
/// <param name="FileLength">Bytes of the file.</param>
/// <param name="Images">Its images, by number; one whose folders are damaged is left out.</param>
/// <param name="Sharing">What they share.</param>
/// <param name="States">The states of the archive, the oldest first; one that is damaged is left out.</param>
/// <param name="Space">Where the room of one image goes; null where there is no image.</param>
public sealed record ReportResult(string Archive, long FileLength, IReadOnlyList<ReportedImage> Images, ContentSharing Sharing,
    IReadOnlyList<ArchiveState> States, ImageSpace? Space)
{
    /// <summary>What could not be read: images that are left out, and parts of others.</summary>
    public IReadOnlyList<string> Problems { get; init; } = [];
}
