namespace Vembar.Volumes.Sources;

/// <summary>A file or folder that is in use, and that its folder does not list.</summary>
/// <param name="Reference">Its number with its sequence number.</param>
/// <param name="Name">Its name; empty where its record has none.</param>
/// <param name="Folder">Its folder; null where that is not known either.</param>
internal sealed record LostFile(ulong Reference, string Name, SourceNode? Folder);
