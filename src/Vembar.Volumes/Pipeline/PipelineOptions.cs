using Vembar.Store.Compression;

namespace Vembar.Volumes.Pipeline;

/// <summary>How a pipeline works.</summary>
/// <param name="Effort">How hard to compress.</param>
/// <param name="SkipUnreadable">Whether files that cannot be read are left out and told, instead of ending it.</param>
/// <param name="Workers">How many files are read, and how many blocks compressed, at once.</param>
internal sealed record PipelineOptions(Effort Effort, bool SkipUnreadable, int Workers);
